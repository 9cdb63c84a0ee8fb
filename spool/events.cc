#include "spool/events.h"

#include <xxhash.h>

#include <algorithm>
#include <map>
#include <unordered_map>

#include "core/bytes.h"
#include "core/json_text.h"
#include "core/time/instant.h"

namespace dingle {
namespace {

constexpr std::size_t kMostDecodedFields = 100'000;  // of one event

class NameTable {
 public:
  std::uint64_t index(FieldId id) {
    // Events of one template have the same fields in the same order.
    if (next_ < recent_.size() && recent_[next_] == id) return next_++;
    for (std::size_t i = 0; i < recent_.size(); ++i)  // few names in most batches
      if (recent_[i] == id) return next_ = i + 1, i;
    if (recent_.size() < 24) {
      recent_.push_back(id);
      all_.push_back(id);
      return all_.size() - 1;
    }
    auto [it, added] = rest_.try_emplace(id, all_.size());
    if (added) all_.push_back(id);
    return it->second;
  }
  const std::vector<FieldId>& all() const { return all_; }

 private:
  std::size_t next_ = 0;  // in recent_: behind the one found last
  std::vector<FieldId> recent_, all_;
  std::unordered_map<FieldId, std::uint64_t> rest_;
};

void write_fields(ByteWriter& w, std::span<const Field> fields, std::string_view body, NameTable& names) {
  w.varint(fields.size());
  for (const Field& f : fields) {
    w.varint(names.index(f.name) << 4 | static_cast<std::uint64_t>(f.value.kind()));
    switch (f.value.kind()) {
      case Kind::absent: break;
      case Kind::integer:
      case Kind::timestamp: w.zigzag(f.value.as_integer()); break;
      case Kind::decimal: w.decimal(f.value.as_decimal()); break;
      case Kind::boolean: w.u8(f.value.as_boolean()); break;
      case Kind::text:
      case Kind::ip:
      case Kind::list:
      case Kind::map: {
        std::string_view t = f.value.as_text();
        if (!t.empty() && t.data() >= body.data() && t.data() + t.size() <= body.data() + body.size()) {
          w.varint(static_cast<std::uint64_t>(t.data() - body.data()) << 1 | 1);
          w.varint(t.size());
        } else {
          w.varint(static_cast<std::uint64_t>(t.size()) << 1);
          w.raw(t);
        }
      }
    }
  }
}

std::size_t read_fields(ByteReader& r, std::string_view body, const std::vector<FieldId>& names, Field* out,
                        std::size_t n) {
  for (std::size_t i = 0; i < n && r.ok(); ++i) {
    std::uint64_t head = r.varint();
    if ((head >> 4) >= names.size() || (head & 15) > static_cast<std::uint64_t>(Kind::map))
      return r.fail(), i;
    out[i].name = names[head >> 4];
    const auto kind = static_cast<Kind>(head & 15);
    switch (kind) {
      case Kind::absent: out[i].value = Value(); break;
      case Kind::integer: out[i].value = Value::integer(r.zigzag()); break;
      case Kind::timestamp: out[i].value = Value::timestamp(r.zigzag()); break;
      case Kind::decimal: out[i].value = Value::decimal(r.decimal()); break;
      case Kind::boolean: out[i].value = Value::boolean(r.u8() != 0); break;
      case Kind::text:
      case Kind::ip:
      case Kind::list:
      case Kind::map: {
        std::uint64_t v = r.varint();
        if (v & 1) {
          std::uint64_t offset = v >> 1, size = r.varint();
          if (offset > body.size() || size > body.size() - offset) return r.fail(), i;
          out[i].value = Value::from_text(kind, body.substr(offset, size));
        } else {
          out[i].value = Value::from_text(kind, r.bytes(v >> 1));
        }
      }
    }
  }
  return n;
}

}  // namespace

namespace {

constexpr std::uint8_t kVersion = 4, kUnaltered = 3, kOneSource = 2;
constexpr std::uint32_t kHiddenElsewhere = 0;  // in the place of a destination

// The sets of destinations that events go to, each once.
class SetTable {
 public:
  std::size_t index(const std::vector<std::uint32_t>& set) {
    for (std::size_t i = 0; i < all_.size(); ++i)
      if (all_[i] == set) return i;
    all_.push_back(set);
    return all_.size() - 1;
  }
  const std::vector<std::vector<std::uint32_t>>& all() const { return all_; }

 private:
  std::vector<std::vector<std::uint32_t>> all_;
};

// The index names of each destination, over all sections.
struct NameLists {
  struct List {
    std::uint32_t destination = 0;
    std::vector<std::string_view> names;
  };
  std::vector<List> all;

  List& of(std::uint32_t destination) {
    for (List& list : all)
      if (list.destination == destination) return list;
    return all.emplace_back(List{destination, {}});
  }
};

}  // namespace

EncodedEvents encode_events(std::span<const Slice> slices, const std::vector<Section>& sections) {
  EncodedEvents encoded;
  struct InSet {
    std::uint32_t events = 0;
    std::uint64_t fingerprints = 0, bytes = 0;
  };
  std::vector<InSet> in_set;  // by set of destinations
  // What stands at the beginning is known only at the end: the rest is written apart first.
  NameTable names;
  SetTable sets;
  NameLists lists;
  thread_local std::string resources,
      rest;  // kept: memory that grows with every batch costs more than writing to it
  resources.clear();
  rest.clear();
  ByteWriter slice_writer(resources);
  slice_writer.varint(slices.size());
  for (const Slice& slice : slices) {
    slice_writer.u64(slice.stream);
    slice_writer.text(slice.source);
    slice_writer.text(slice.zone);
    write_fields(slice_writer, slice.resource, {}, names);
  }
  ByteWriter w(rest);
  std::uint64_t events = 0, replacing = 0;
  std::vector<std::string_view> indexes;  // of what is replaced
  std::string replaced;
  ByteWriter replaced_writer(replaced);
  std::vector<std::uint32_t> set;
  std::array<std::uint64_t, 3> before{~std::uint64_t{0}, 0, 0};
  for (std::size_t s = 0; s < sections.size(); ++s) {
    const Section& section = sections[s];
    std::vector<std::uint64_t> first_name;  // of each destination's names, in its list
    const std::vector<bool>& hidden = section.hidden_elsewhere;
    bool choosy = !hidden.empty();
    set.clear();
    for (const Section::To& to : section.to) {
      set.push_back(to.destination);
      choosy |= !to.takes.empty();
      if (to.names.empty()) {
        first_name.push_back(0);
        continue;
      }
      NameLists::List& list = lists.of(to.destination);
      first_name.push_back(list.names.size());
      list.names.insert(list.names.end(), to.names.begin(), to.names.end());
    }
    const std::size_t all = choosy ? 0 : sets.index(set), begin = rest.size();
    for (std::size_t i = 0; i < section.batch->events.size(); ++i) {
      const Event& e = section.batch->events[i];
      std::size_t set_index = all;
      if (choosy) {
        set.clear();
        for (const Section::To& to : section.to)
          if (to.takes.empty() || to.takes[i]) set.push_back(to.destination);
        if (set.empty()) continue;
        if (!hidden.empty() && hidden[i]) set.push_back(kHiddenElsewhere);
        set_index = sets.index(set);
      }
      if (!section.replaces.empty()) {
        const Replaced& old = section.replaces[i];
        auto index = std::find(indexes.begin(), indexes.end(), old.index);
        if (index == indexes.end()) index = indexes.insert(index, old.index);
        ++replacing;
        for (const std::uint64_t v : {events, static_cast<std::uint64_t>(index - indexes.begin())})
          replaced_writer.varint(v);
        replaced_writer.zigzag(old.timestamp);
        replaced_writer.u64(old.spool);
        for (const std::uint64_t v : {old.epoch, old.number, old.ordinal}) replaced_writer.varint(v);
      }
      ++events;
      if (in_set.size() <= set_index) in_set.resize(set_index + 1);
      ++in_set[set_index].events;
      in_set[set_index].fingerprints += fingerprint(e);
      const std::size_t from = rest.size();
      const std::array<std::uint64_t, 3> now{e.slice, s, set_index};
      const bool altered = !section.altered.empty() && section.altered[i];
      w.varint(std::uint64_t{e.branch} << 2 | std::uint64_t{altered} << 1 | (now != before));
      if (now != before)
        for (const std::uint64_t v : now) w.varint(v);
      before = now;
      w.varint(e.position);
      w.varint(e.template_number);
      w.zigzag(static_cast<std::int64_t>(static_cast<std::uint64_t>(e.timestamp) -
                                         static_cast<std::uint64_t>(e.observed)));
      w.zigzag(e.observed);
      w.text(e.body);
      write_fields(w, e.all(), e.body, names);
      for (std::size_t t = 0; t < section.to.size(); ++t) {
        const Section::To& to = section.to[t];
        if (!to.names.empty() && (to.takes.empty() || to.takes[i])) w.varint(first_name[t] + to.name_of[i]);
      }
      in_set[set_index].bytes += rest.size() - from;
    }
    encoded.section_bytes.push_back(rest.size() - begin);
  }
  std::map<std::uint32_t, InSet> events_for;
  for (std::size_t i = 0; i < in_set.size(); ++i)
    for (const std::uint32_t destination : sets.all()[i]) {
      if (destination == kHiddenElsewhere) continue;
      events_for[destination].events += in_set[i].events;
      events_for[destination].fingerprints += in_set[i].fingerprints;
      events_for[destination].bytes += in_set[i].bytes;
    }
  for (const auto& [destination, in] : events_for) {
    encoded.destinations.emplace_back(destination, in.events);
    encoded.fingerprints.push_back(in.fingerprints);
    encoded.bytes_for.push_back(in.bytes);
  }
  std::string& out = encoded.bytes;
  out.reserve(resources.size() + rest.size() + 32 * names.all().size() + 256);
  ByteWriter head(out);
  head.u8(0);
  head.u8(kVersion);
  head.varint(names.all().size());
  for (FieldId id : names.all()) head.text(field_name(id));
  head.raw(resources);
  head.varint(lists.all.size());
  for (const auto& [destination, texts] : lists.all) {
    head.varint(destination);
    head.varint(texts.size());
    for (std::string_view text : texts) head.text(text);
  }
  head.varint(sets.all().size());
  for (const auto& one : sets.all()) {
    head.varint(one.size());
    for (const std::uint32_t destination : one) head.varint(destination);
  }
  head.varint(sections.size());
  for (const Section& section : sections) {
    head.varint(section.pipeline_id);
    head.text(section.pipeline);
    head.text(section.configuration);
  }
  head.varint(events);
  out += rest;
  head.varint(indexes.size());
  for (const std::string_view index : indexes) head.text(index);
  head.varint(replacing);
  out += replaced;
  return encoded;
}

std::string encode_event(const SpooledEvent& e, std::uint32_t destination) {
  Batch batch;
  Event event;
  event.body = e.body;
  event.timestamp = e.timestamp;
  event.observed = e.observed;
  event.position = e.position;
  event.branch = e.branch;
  event.template_number = static_cast<std::uint16_t>(e.template_number);
  event.fields = const_cast<Field*>(e.fields.data());  // only read
  event.field_count = static_cast<std::uint16_t>(e.fields.size());
  batch.events.push_back(event);
  Section::To to{destination, {}, {}};
  if (!e.name.empty()) to.names.emplace_back(e.name), to.name_of.push_back(0);
  const Slice slice{e.stream, e.source, e.zone, e.resource};
  Section section{e.pipeline_id, e.pipeline, e.configuration, {std::move(to)}, &batch};
  if (e.hidden_elsewhere) section.hidden_elsewhere.push_back(true);
  if (e.altered) section.altered.push_back(true);
  return encode_events({&slice, 1}, {std::move(section)}).bytes;
}

Field* EventDecoder::room(std::size_t fields) {
  constexpr std::size_t kBlock = 4096;
  while (in_use_ < blocks_.size() && blocks_[in_use_].capacity() - blocks_[in_use_].size() < fields)
    ++in_use_;
  if (in_use_ == blocks_.size()) {
    blocks_.emplace_back();
    blocks_.back().reserve(std::max(kBlock, fields));
  }
  auto& block = blocks_[in_use_];
  block.resize(block.size() + fields);
  return block.data() + block.size() - fields;
}

std::span<const Field> EventDecoder::read(ByteReader& r, std::string_view body,
                                          const std::vector<FieldId>& names) {
  const std::size_t n = r.count(1);
  if (n > kMostDecodedFields) return r.fail(), std::span<const Field>();
  Field* out = room(n);
  return {out, read_fields(r, body, names, out, n)};
}

void EventDecoder::reuse() {
  for (auto& block : blocks_) block.clear();
  in_use_ = 0;
  names_.clear();
  replaced_.clear();
}

// Of the events of one record, which come in the order of their ordinals.
bool EventDecoder::read_replaced(ByteReader& r, std::span<SpooledEvent> events) {
  std::vector<std::string_view> indexes;
  for (std::size_t n = r.count(); n-- && r.ok();) indexes.push_back(r.text());
  auto event = events.begin();
  for (std::size_t n = r.count(14); n-- && r.ok();) {
    const std::uint64_t of = r.varint(), index = r.varint();
    if (index >= indexes.size()) return false;
    Replaced old{indexes[index]};
    old.timestamp = r.zigzag();
    old.spool = r.u64();
    old.epoch = r.varint();
    old.number = r.varint();
    old.ordinal = r.varint();
    while (event != events.end() && event->ordinal < of) ++event;
    if (event != events.end() && event->ordinal == of) event->replaces = &replaced_.emplace_back(old);
  }
  return r.ok();
}

bool EventDecoder::decode(std::string_view bytes, std::uint32_t destination,
                          std::vector<SpooledEvent>& events) {
  if (bytes.empty() || bytes[0] != '\0') return decode_old(bytes, destination, events);
  ByteReader r(bytes);
  r.u8();
  const std::uint8_t version = r.u8();
  if (version != kVersion && version != kUnaltered && version != kOneSource) return false;
  std::vector<FieldId> names;
  for (std::size_t n = r.count(); n-- && r.ok();) names.push_back(names_.id(r.text()));
  const auto fields = [&](std::string_view body) { return read(r, body, names); };
  SpooledEvent e;
  if (version == kOneSource) e.source = r.text();
  std::vector<Slice> slices;
  for (std::size_t n = r.count(10); n-- && r.ok();) {
    Slice& slice = slices.emplace_back();
    slice.stream = r.u64();
    slice.source = version == kOneSource ? e.source : r.text();
    slice.zone = r.text();
    slice.resource = fields({});
  }
  std::vector<std::pair<std::uint32_t, std::vector<std::string_view>>> lists;
  std::map<std::uint32_t, std::size_t> list_of;
  for (std::size_t n = r.count(2); n-- && r.ok();) {
    auto& [id, texts] =
        lists.emplace_back(static_cast<std::uint32_t>(r.varint()), std::vector<std::string_view>());
    for (std::size_t k = r.count(); k-- && r.ok();) texts.push_back(r.text());
    list_of.emplace(id, lists.size() - 1);
  }
  struct Set {
    bool wanted = false, hidden = false;
    std::vector<std::size_t> lists;  // of its destinations that have names
  };
  std::vector<Set> sets;
  for (std::size_t n = r.count(); n-- && r.ok();) {
    Set& set = sets.emplace_back();
    set.wanted = destination == 0;
    for (std::size_t k = r.count(); k-- && r.ok();) {
      const auto id = static_cast<std::uint32_t>(r.varint());
      set.wanted |= id == destination;
      set.hidden |= id == kHiddenElsewhere;
      if (const auto list = list_of.find(id); list != list_of.end()) set.lists.push_back(list->second);
    }
  }
  struct Made {
    std::uint32_t id = 0;
    std::string_view name, configuration;
  };
  std::vector<Made> pipelines;
  for (std::size_t n = r.count(3); n-- && r.ok();) {
    Made& made = pipelines.emplace_back();
    made.id = static_cast<std::uint32_t>(r.varint());
    made.name = r.text();
    made.configuration = r.text();
  }
  const Set* set = nullptr;
  const std::size_t first = events.size();
  for (std::size_t n = r.count(7); n-- && r.ok(); ++e.ordinal) {
    const std::size_t before = r.rest().size();
    const std::uint64_t head = r.varint();
    e.branch = static_cast<std::uint32_t>(version == kVersion ? head >> 2 : head >> 1);
    e.altered = version == kVersion && (head & 2);
    if (head & 1) {
      const std::uint64_t slice = r.varint(), pipeline = r.varint(), which = r.varint();
      if (slice >= slices.size() || pipeline >= pipelines.size() || which >= sets.size()) return false;
      e.stream = slices[slice].stream;
      e.zone = slices[slice].zone;
      e.source = slices[slice].source;
      e.resource = slices[slice].resource;
      e.pipeline_id = pipelines[pipeline].id;
      e.pipeline = pipelines[pipeline].name;
      e.configuration = pipelines[pipeline].configuration;
      set = &sets[which];
      e.hidden_elsewhere = set->hidden;
    }
    if (set == nullptr) return false;
    e.position = r.varint();
    e.template_number = static_cast<std::uint32_t>(r.varint());
    const std::int64_t ahead = r.zigzag();
    e.observed = r.zigzag();
    e.timestamp =
        static_cast<std::int64_t>(static_cast<std::uint64_t>(e.observed) + static_cast<std::uint64_t>(ahead));
    e.body = r.text();
    e.fields = fields(e.body);
    e.name = {};
    for (const std::size_t i : set->lists) {
      const auto& [id, texts] = lists[i];
      const std::uint64_t which = r.varint();
      if (which >= texts.size()) return false;
      if (id == destination) e.name = texts[which];
    }
    e.bytes = static_cast<std::uint32_t>(before - r.rest().size());
    if (set->wanted && r.ok()) events.push_back(e);
  }
  if (version == kVersion && r.ok() && !read_replaced(r, std::span(events).subspan(first))) return false;
  return r.ok() && r.at_end();
}

Value SpooledEvent::get(FieldId field) const {
  if (field == names::body) return Value::text(body);
  for (const Field& f : fields)
    if (f.name == field) return f.value;
  if (field == names::timestamp) return Value::timestamp(timestamp);
  if (field == names::observed_timestamp) return Value::timestamp(observed);
  if (field == names::pipeline) return Value::text(pipeline);
  if (field == names::configuration) return Value::text(configuration);
  if (field == names::source && !source.empty()) return Value::text(source);
  if (field == names::zone && !zone.empty()) return Value::text(zone);
  if (field == names::altered) return altered ? Value::boolean(true) : Value();
  if (field == names::template_number) return template_number ? Value::integer(template_number) : Value();
  for (const Field& f : resource)
    if (f.name == field) return f.value;
  return {};
}

void append_event_json(const SpooledEvent& e, std::string& out) {
  out += "{\"timestamp\":\"" + format_rfc3339(e.timestamp) + "\",\"observed_timestamp\":\"" +
         format_rfc3339(e.observed) + "\",\"body\":";
  append_json_string(out, e.body);
  auto add = [&](std::string_view name, const Value& value) {
    if (value.absent()) return;
    out += ',';
    append_json_string(out, name);
    out += ':';
    value.append_json(out);
  };
  for (const Field& f : e.fields)
    if (!is_part_of_event(f.name)) add(field_name(f.name), f.value);  // those stand there already
  for (const Field& f : e.resource) {
    bool hidden = false;
    for (const Field& own : e.fields) hidden |= own.name == f.name;
    if (!hidden) add(field_name(f.name), f.value);
  }
  add("dingle.pipeline", Value::text(e.pipeline));
  if (e.template_number) add("dingle.template", Value::integer(e.template_number));
  add("dingle.configuration", Value::text(e.configuration));
  out += '}';
}

}  // namespace dingle
