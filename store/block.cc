#include "store/block.h"

#include <zstd.h>

#include <algorithm>

#include "core/bytes.h"
#include "core/condition/words.h"
#include "core/json_text.h"
#include "core/time/instant.h"
#include "spool/events.h"
#include "store/block_format.h"

namespace dingle {

using namespace block_format;

void Block::note_damage() const {
  damaged_ = true;
  if (throws_) throw DamagedBlock();
}

std::unique_ptr<Block> Block::open(std::string_view directory, ChunkLoader load, bool throws) {
  ByteReader r(directory);
  auto block = std::make_unique<Block>();
  block->throws_ = throws;
  block->load_ = std::move(load);
  const std::uint64_t version = r.varint();
  if (version != 1 && version != 2) return nullptr;
  block->count_ = r.varint();
  if (block->count_ > kEventsPerBlock) return nullptr;
  for (std::size_t n = r.count(6); n-- && r.ok();) {
    Column c;
    std::string_view name = r.text();
    c.field = name.empty() ? kNoField : block->names_.id(name);
    c.kind = r.u8();
    c.more = (c.kind & kMore) != 0;
    c.kind &= static_cast<std::uint8_t>(~kMore);
    c.present = r.varint();
    c.chunk = r.varint();
    c.offset = r.varint();
    c.size = r.varint();
    c.bounded = r.u8() != 0;
    if (c.bounded && c.kind == static_cast<std::uint8_t>(Kind::decimal)) {
      c.least = Value::decimal(r.decimal());
      c.greatest = Value::decimal(r.decimal());
    } else if (c.bounded) {
      const bool time = c.kind == static_cast<std::uint8_t>(Kind::timestamp);
      std::int64_t least = r.zigzag(), greatest = r.zigzag();
      c.least = time ? Value::timestamp(least) : Value::integer(least);
      c.greatest = time ? Value::timestamp(greatest) : Value::integer(greatest);
    }
    if (c.field == kNoField && c.kind >= kTimestamp && c.kind <= kBranch &&
        !block->fixed_[c.kind - kTimestamp])
      block->fixed_[c.kind - kTimestamp] = static_cast<std::uint16_t>(block->columns_.size() + 1);
    block->fields_.push_back(c.field);
    block->columns_.push_back(std::move(c));
  }
  if (!r.ok()) return nullptr;
  return block;
}

std::vector<FieldId> Block::fields() const {
  std::vector<FieldId> all;
  for (const Column& c : columns_)
    if (c.field != kNoField) all.push_back(c.field);
  return all;
}

std::vector<Block::ColumnInfo> Block::columns() const {
  std::vector<ColumnInfo> all;
  for (const Column& c : columns_)
    if (c.field != kNoField && c.kind <= static_cast<std::uint8_t>(Kind::map))
      all.push_back({field_name(c.field), c.field, static_cast<Kind>(c.kind), c.more, c.present, c.size});
  return all;
}

std::size_t Block::bytes() const {
  std::size_t all = 0;
  for (const Column& c : columns_) all += std::min(c.size, kLargestChunk);
  return all;
}

std::string_view Block::chunk(std::size_t number) const {
  auto [it, added] = chunks_.try_emplace(number);
  if (!added) return it->second;
  auto compressed = load_(number);
  if (!compressed) return note_damage(), std::string_view();
  const auto size = ZSTD_getFrameContentSize(compressed->data(), compressed->size());
  if (size == ZSTD_CONTENTSIZE_ERROR || size == ZSTD_CONTENTSIZE_UNKNOWN || size > kLargestChunk)
    return note_damage(), std::string_view();
  it->second.resize(size);
  const std::size_t n = ZSTD_decompress(it->second.data(), size, compressed->data(), compressed->size());
  if (ZSTD_isError(n)) {
    it->second.clear();
    note_damage();
  }
  return it->second;
}

// Empty if it is damaged.
std::string_view Block::bytes_of(const Column& c) const {
  const std::string_view bytes = chunk(c.chunk);
  if (c.offset > bytes.size() || c.size > bytes.size() - c.offset) return note_damage(), std::string_view();
  return bytes.substr(c.offset, c.size);
}

namespace {

// The events of a column that have a value, in their order.
class Rows {
 public:
  Rows(ByteReader& r, std::size_t count) : count_(count), all_(r.u8() != 0) {
    if (!all_) bitmap_ = r.bytes((count + 7) / 8);
    if (!r.ok()) count_ = 0;
  }
  template <class Visit>
  void each(Visit&& visit) const {
    for (std::size_t row = 0; row < count_; ++row)
      if (all_ || (bitmap_[row / 8] >> (row % 8) & 1) != 0) visit(row);
  }

 private:
  std::size_t count_;
  bool all_;
  std::string_view bitmap_;
};

// Whole numbers, each written as its difference to the one before; `visit(row, number)`.
template <class Visit>
void each_integer(ByteReader& r, const Rows& rows, Visit&& visit) {
  std::uint64_t v = 0;
  rows.each([&](std::size_t row) {
    v += static_cast<std::uint64_t>(r.zigzag());
    visit(row, v);
  });
}

std::vector<std::string_view> read_dictionary(ByteReader& r) {
  std::vector<std::string_view> dictionary;
  for (std::size_t n = r.count(); n-- && r.ok();) dictionary.push_back(r.text());
  return dictionary;
}

}  // namespace

void Block::load(Column& c) const {
  c.loaded = true;
  c.values.assign(count_, Value());
  ByteReader r(bytes_of(c));
  const Rows rows(r, count_);
  if (is_integral(c.kind)) {
    const bool time = c.kind == static_cast<std::uint8_t>(Kind::timestamp);
    each_integer(r, rows, [&](std::size_t row, std::uint64_t v) {
      c.values[row] = time ? Value::timestamp(wrapped(v)) : Value::integer(wrapped(v));
    });
  } else if (c.kind == static_cast<std::uint8_t>(Kind::boolean)) {
    rows.each([&](std::size_t row) { c.values[row] = Value::boolean(r.u8() != 0); });
  } else if (c.kind == static_cast<std::uint8_t>(Kind::decimal)) {
    rows.each([&](std::size_t row) { c.values[row] = Value::decimal(r.decimal()); });
  } else if (is_textual(c.kind)) {
    const Kind kind = c.kind == kBody ? Kind::text : static_cast<Kind>(c.kind);
    c.repeats = r.u8() == 1;
    if (c.repeats) {
      const std::vector<std::string_view> dictionary = read_dictionary(r);
      const bool small = dictionary.size() <= 256;
      rows.each([&](std::size_t row) {
        const std::uint64_t i = small ? r.u8() : r.varint();
        if (i < dictionary.size())
          c.values[row] = Value::from_text(kind, dictionary[i]);
        else
          r.fail();
      });
    } else {
      std::array<std::uint64_t, kEventsPerBlock> sizes;
      rows.each([&](std::size_t row) { sizes[row] = r.varint(); });
      rows.each([&](std::size_t row) { c.values[row] = Value::from_text(kind, r.bytes(sizes[row])); });
    }
  }
  if (!r.ok()) {
    c.values.assign(count_, Value());
    note_damage();
  }
}

const Block::Column* Block::fixed(std::uint8_t kind) const {
  const std::uint16_t at = fixed_[kind - kTimestamp];
  if (at == 0) return nullptr;
  Column& c = columns_[at - 1u];
  if (!c.loaded) load(c);
  return &c;
}

// The column that alone decides what a field is; null: none, or several things do.
Block::Column* Block::only_column(FieldId field) const {
  const auto at = std::find(fields_.begin(), fields_.end(), field);
  if (field == kNoField || is_part_of_event(field) || at == fields_.end() ||
      std::find(at + 1, fields_.end(), field) != fields_.end())
    return nullptr;
  return &columns_[static_cast<std::size_t>(at - fields_.begin())];
}

Block::Values::Values(const Block& block, FieldId field) : field_(field) {
  if (field == kNoField) return;
  if (Column* c = block.only_column(field)) {
    if (!c->loaded) block.load(*c);
    column_ = c->values.data();
    repeats_ = c->repeats;
  } else {
    block_ = &block;
  }
}

bool Block::count_values(FieldId field, std::vector<std::pair<Value, std::uint64_t>>& counts) const {
  counts.clear();
  const Column* const c = only_column(field);
  if (c == nullptr || c->loaded || !is_textual(c->kind)) return false;
  ByteReader r(bytes_of(*c));
  const Rows rows(r, count_);
  if (r.u8() != 1) return false;
  for (const std::string_view text : read_dictionary(r))
    counts.emplace_back(Value::from_text(static_cast<Kind>(c->kind), text), 0);
  const bool small = counts.size() <= 256;
  std::uint64_t without = count_;
  rows.each([&](std::size_t) {
    const std::uint64_t i = small ? r.u8() : r.varint();
    if (i < counts.size())
      ++counts[i].second, --without;
    else
      r.fail();
  });
  if (without != 0) counts.emplace_back(Value(), without);
  return r.ok();  // else `load` says what is wrong
}

bool Block::may_mention(const std::vector<std::string>& words) const {
  return std::all_of(words.begin(), words.end(), [&](const std::string& word) {
    return std::any_of(columns_.begin(), columns_.end(), [&](const Column& c) {
      if (!is_textual(c.kind)) return false;
      const std::string_view bytes = bytes_of(c);
      return damaged_ || contains_folded(bytes, word);
    });
  });
}

std::optional<std::pair<EventOrigin, EventOrigin>> Block::origin_bounds() const {
  EventOrigin least, greatest;
  const auto take = [&](std::uint8_t kind, std::uint64_t EventOrigin::*member) {
    const std::uint16_t at = fixed_[kind - kTimestamp];
    if (at == 0 || !columns_[at - 1u].bounded) return false;
    least.*member = static_cast<std::uint64_t>(columns_[at - 1u].least.as_integer());
    greatest.*member = static_cast<std::uint64_t>(columns_[at - 1u].greatest.as_integer());
    return true;
  };
  if (!take(kStream, &EventOrigin::stream) || !take(kPosition, &EventOrigin::position)) return {};
  if (wrapped(least.position) < 0) return {};  // bounds are of signed numbers
  return std::pair(least, greatest);
}

bool Block::may_satisfy(const std::vector<Condition::Bound>& bounds) const {
  for (const Condition::Bound& bound : bounds) {
    if (bound.field == names::body || bound.field == names::timestamp ||
        bound.field == names::observed_timestamp)
      continue;
    bool possible = false;
    for (const Column& c : columns_) {
      if (c.field != bound.field) continue;
      if (!c.bounded) {
        possible = true;
        continue;
      }
      auto least = compare(c.least, bound.literal), greatest = compare(c.greatest, bound.literal);
      if (!least || !greatest) continue;  // does not compare: unknown for every value of this type
      switch (bound.comparison) {
        case Comparison::equal: possible |= *least <= 0 && *greatest >= 0; break;
        case Comparison::not_equal: possible = true; break;
        case Comparison::less: possible |= *least < 0; break;
        case Comparison::less_or_equal: possible |= *least <= 0; break;
        case Comparison::greater: possible |= *greatest > 0; break;
        case Comparison::greater_or_equal: possible |= *greatest >= 0; break;
      }
    }
    if (!possible) return false;
  }
  return true;
}

// Whether the event has a field of that name of its own.
bool Block::hidden(const Column& column, std::size_t row) const {
  return column.more && std::any_of(columns_.begin(), columns_.end(), [&](Column& c) {
           if (c.more || c.field != column.field) return false;
           if (!c.loaded) load(c);
           return !c.values[row].absent();
         });
}

Value Block::get(std::size_t row, FieldId field) const {
  if (field == names::body) return Value::text(body(row));
  Value of_more;
  for (std::size_t i = 0; i < fields_.size(); ++i) {
    if (fields_[i] != field) continue;
    Column& c = columns_[i];
    if (!c.loaded) load(c);
    if (c.values[row].absent()) continue;
    if (!c.more) return c.values[row];
    of_more = c.values[row];
  }
  if (!of_more.absent()) return of_more;
  if (field == names::timestamp) return Value::timestamp(timestamp(row));
  if (field == names::observed_timestamp) {
    const Column* c = fixed(kObserved);
    return c ? Value::timestamp(wrapped(static_cast<std::uint64_t>(c->values[row].as_integer()) +
                                        static_cast<std::uint64_t>(timestamp(row))))
             : Value();
  }
  return {};
}

bool Block::any_text(const std::function<bool(std::string_view)>& test) const {
  if (test(body(row_))) return true;
  for (Column& c : columns_) {
    if (c.field == kNoField || !is_textual(c.kind)) continue;
    if (!c.loaded) load(c);
    if (!c.values[row_].absent() && test(c.values[row_].as_text()) && !hidden(c, row_)) return true;
  }
  return false;
}

std::int64_t Block::timestamp(std::size_t row) const {
  const Column* c = fixed(kTimestamp);
  return c ? c->values[row].as_integer() : 0;
}
std::string_view Block::body(std::size_t row) const {
  const Column* c = fixed(kBody);
  return c && !c->values[row].absent() ? c->values[row].as_text() : std::string_view();
}
EventOrder Block::order(std::size_t row) const {
  auto value = [&](std::uint8_t kind) {
    const Column* c = fixed(kind);
    return c ? static_cast<std::uint64_t>(c->values[row].as_integer()) : 0;
  };
  return {value(kSpool), value(kEpoch), value(kNumber), value(kOrdinal)};
}

void Block::origins(std::vector<EventOrigin>& all) const {
  all.assign(count_, {});
  const auto read = [&](std::uint8_t kind, std::uint64_t EventOrigin::*member) {
    const std::uint16_t at = fixed_[kind - kTimestamp];
    if (at == 0) return;
    ByteReader r(bytes_of(columns_[at - 1u]));
    const Rows rows(r, count_);
    each_integer(r, rows, [&](std::size_t row, std::uint64_t v) { all[row].*member = v; });
    if (!r.ok()) note_damage();
  };
  read(kStream, &EventOrigin::stream);
  read(kPosition, &EventOrigin::position);
  read(kBranch, &EventOrigin::branch);
}

StoredEvent Block::event(std::size_t row, std::vector<Field>& fields, std::vector<Field>& more) const {
  StoredEvent e;
  e.timestamp = timestamp(row);
  auto integer = [&](std::uint8_t kind) {
    const Column* c = fixed(kind);
    return c && !c->values[row].absent() ? static_cast<std::uint64_t>(c->values[row].as_integer()) : 0;
  };
  e.observed = wrapped(integer(kObserved) + static_cast<std::uint64_t>(e.timestamp));
  e.order = order(row);
  e.stream = integer(kStream);
  e.position = integer(kPosition);
  e.branch = static_cast<std::uint32_t>(integer(kBranch));
  e.body = body(row);
  fields.clear();
  more.clear();
  for (Column& c : columns_) {
    if (c.field == kNoField) continue;
    if (!c.loaded) load(c);
    if (!c.values[row].absent()) (c.more ? more : fields).push_back({c.field, c.values[row]});
  }
  e.fields = fields;
  e.more = more;
  return e;
}

void append_event_json(const StoredEvent& e, const EventJson& with, std::string& out) {
  const auto each = [&](auto show) {
    for (const Field& f : e.fields) show(f);
    for (const Field& f : e.more)
      if (std::none_of(e.fields.begin(), e.fields.end(),
                       [&](const Field& own) { return own.name == f.name; }))
        show(f);
  };
  out += "{\"timestamp\":\"" + format_rfc3339(e.timestamp) + "\",\"observed_timestamp\":\"" +
         format_rfc3339(e.observed) + "\",\"body\":";
  append_json_string(out, e.body);
  each([&](const Field& f) {
    if (is_part_of_event(f.name)) return;  // they stand there already
    out += ',';
    append_json_string(out, field_name(f.name));
    out += ':';
    f.value.append_json(out);
  });
  if (with.id) out.append(",\"dingle.id\":\"").append(event_id(e.stream, e.position, e.branch).view()) += '"';
  if (with.types) {
    out += ",\"dingle.types\":{";
    bool first = true;
    each([&](const Field& f) {
      if (!first) out += ',';
      first = false;
      append_json_string(out, field_name(f.name));
      out += ":\"" + std::string(kind_name(f.value.kind())) + "\"";
    });
    out += '}';
  }
  out += '}';
}

}  // namespace dingle
