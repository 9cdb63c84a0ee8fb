#include "spool/events.h"

#include <xxhash.h>

#include <algorithm>
#include <unordered_map>

#include "core/bytes.h"
#include "core/json_text.h"
#include "core/time/instant.h"

namespace dingle {
namespace {

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

std::string encode_events(std::string_view source, std::uint64_t stream, std::span<const Field> resource,
                          const std::vector<Section>& sections) {
  // The names are known only at the end, but stand at the beginning: the rest is written apart first.
  NameTable names;
  thread_local std::string rest;  // kept: memory that grows with every batch costs more than writing to it
  rest.clear();
  ByteWriter w(rest);
  write_fields(w, resource, {}, names);
  w.varint(sections.size());
  for (const Section& s : sections) {
    w.varint(s.pipeline_id);
    w.text(s.pipeline);
    w.text(s.configuration);
    w.varint(s.to.size());
    for (const Section::To& to : s.to) {
      w.varint(to.destination);
      w.varint(to.names.size());
      for (const std::string& name : to.names) w.text(name);
    }
    w.varint(s.batch->events.size());
    for (std::size_t i = 0; i < s.batch->events.size(); ++i) {
      const Event& e = s.batch->events[i];
      w.varint(e.position);
      w.varint(e.ordinal);
      w.varint(e.template_number);
      w.zigzag(static_cast<std::int64_t>(static_cast<std::uint64_t>(e.timestamp) -
                                         static_cast<std::uint64_t>(e.observed)));
      w.zigzag(e.observed);
      w.text(e.body);
      write_fields(w, e.all(), e.body, names);
      for (const Section::To& to : s.to)
        if (!to.names.empty()) w.varint(to.name_of[i]);
    }
  }
  std::string out;
  out.reserve(rest.size() + source.size() + 32 * names.all().size() + 64);
  ByteWriter head(out);
  head.text(source);
  head.u64(stream);
  head.varint(names.all().size());
  for (FieldId id : names.all()) head.text(field_name(id));
  out += rest;
  return out;
}

std::string encode_event(const SpooledEvent& e, std::uint32_t destination) {
  Batch batch;
  Event event;
  event.body = e.body;
  event.timestamp = e.timestamp;
  event.observed = e.observed;
  event.position = e.position;
  event.ordinal = static_cast<std::uint16_t>(e.pipeline_ordinal);
  event.template_number = static_cast<std::uint16_t>(e.template_number);
  event.fields = const_cast<Field*>(e.fields.data());  // only read
  event.field_count = static_cast<std::uint16_t>(e.fields.size());
  batch.events.push_back(event);
  Section::To to{destination, {}, {}};
  if (!e.name.empty()) to.names.emplace_back(e.name), to.name_of.push_back(0);
  return encode_events(e.source, e.stream, e.resource,
                       {{e.pipeline_id, e.pipeline, e.configuration, {std::move(to)}, &batch}});
}

EventId event_id(const SpooledEvent& e) {
  const std::uint64_t key[] = {e.stream, e.position, std::uint64_t{e.pipeline_id} << 32 | e.pipeline_ordinal};
  const XXH128_hash_t hash = XXH3_128bits(key, sizeof key);
  EventId id;
  for (std::size_t i = 0; i < 32; ++i)
    id.digits[i] = "0123456789abcdef"[((i < 16 ? hash.high64 : hash.low64) >> (60 - 4 * (i % 16))) & 15];
  return id;
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

void EventDecoder::reuse() {
  for (auto& block : blocks_) block.clear();
  in_use_ = 0;
}

bool EventDecoder::decode(std::string_view bytes, std::uint32_t destination,
                          std::vector<SpooledEvent>& events) {
  ByteReader r(bytes);
  std::string_view source = r.text();
  const std::uint64_t stream = r.u64();
  std::vector<FieldId> names;
  for (std::size_t n = r.count(); n-- && r.ok();) names.push_back(field_id(r.text()));
  auto fields = [&](std::string_view body) -> std::span<const Field> {
    const std::size_t n = r.count(1);
    if (n > 100'000) return r.fail(), std::span<const Field>();
    Field* out = room(n);
    return {out, read_fields(r, body, names, out, n)};
  };
  const std::span<const Field> resource = fields({});
  std::uint32_t ordinal = 0;
  for (std::size_t sections = r.count(); sections-- && r.ok();) {
    SpooledEvent e;
    e.source = source;
    e.stream = stream;
    e.resource = resource;
    e.pipeline_id = static_cast<std::uint32_t>(r.varint());
    e.pipeline = r.text();
    e.configuration = r.text();
    std::vector<std::pair<std::uint32_t, std::vector<std::string_view>>> to;
    for (std::size_t n = r.count(2); n-- && r.ok();) {
      to.emplace_back(static_cast<std::uint32_t>(r.varint()), std::vector<std::string_view>());
      for (std::size_t k = r.count(); k-- && r.ok();) to.back().second.push_back(r.text());
    }
    bool wanted = destination == 0;
    for (const auto& [id, list] : to) wanted |= id == destination;
    for (std::size_t n = r.count(8); n-- && r.ok(); ++ordinal) {
      e.ordinal = ordinal;
      e.position = r.varint();
      e.pipeline_ordinal = static_cast<std::uint32_t>(r.varint());
      e.template_number = static_cast<std::uint32_t>(r.varint());
      const std::int64_t ahead = r.zigzag();
      e.observed = r.zigzag();
      e.timestamp = static_cast<std::int64_t>(static_cast<std::uint64_t>(e.observed) +
                                              static_cast<std::uint64_t>(ahead));
      e.body = r.text();
      e.fields = fields(e.body);
      e.name = {};
      for (const auto& [id, list] : to) {
        if (list.empty()) continue;
        const std::uint64_t which = r.varint();
        if (which >= list.size()) return false;
        if (id == destination) e.name = list[which];
      }
      if (wanted && r.ok()) events.push_back(e);
    }
  }
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
