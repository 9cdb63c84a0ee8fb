#include "store/block.h"

#include <zstd.h>

#include <algorithm>

#include "core/bytes.h"
#include "core/json_text.h"
#include "core/time/instant.h"
#include "store/block_format.h"

namespace dingle {

using namespace block_format;

std::unique_ptr<Block> Block::open(std::string_view directory, ChunkLoader load) {
  ByteReader r(directory);
  auto block = std::make_unique<Block>();
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
  if (!compressed) return damaged_ = true, std::string_view();
  const auto size = ZSTD_getFrameContentSize(compressed->data(), compressed->size());
  if (size == ZSTD_CONTENTSIZE_ERROR || size == ZSTD_CONTENTSIZE_UNKNOWN || size > kLargestChunk)
    return damaged_ = true, std::string_view();
  it->second.resize(size);
  const std::size_t n = ZSTD_decompress(it->second.data(), size, compressed->data(), compressed->size());
  if (ZSTD_isError(n)) damaged_ = true, it->second.clear();
  return it->second;
}

void Block::load(Column& c) const {
  c.loaded = true;
  c.values.assign(count_, Value());
  std::string_view bytes = chunk(c.chunk);
  if (c.offset > bytes.size() || c.size > bytes.size() - c.offset) {
    damaged_ = true;
    return;
  }
  ByteReader r(bytes.substr(c.offset, c.size));
  const bool all = r.u8() != 0;
  std::string_view bitmap = all ? std::string_view() : r.bytes((count_ + 7) / 8);
  auto present = [&](std::size_t row) { return all || (r.ok() && (bitmap[row / 8] >> (row % 8) & 1)); };
  if (is_integral(c.kind)) {
    const bool time = c.kind == static_cast<std::uint8_t>(Kind::timestamp);
    std::uint64_t v = 0;
    for (std::size_t row = 0; row < count_ && r.ok(); ++row) {
      if (!present(row)) continue;
      v += static_cast<std::uint64_t>(r.zigzag());
      c.values[row] = time ? Value::timestamp(wrapped(v)) : Value::integer(wrapped(v));
    }
  } else if (c.kind == static_cast<std::uint8_t>(Kind::boolean)) {
    for (std::size_t row = 0; row < count_ && r.ok(); ++row)
      if (present(row)) c.values[row] = Value::boolean(r.u8() != 0);
  } else if (c.kind == static_cast<std::uint8_t>(Kind::decimal)) {
    for (std::size_t row = 0; row < count_ && r.ok(); ++row)
      if (present(row)) c.values[row] = Value::decimal(r.decimal());
  } else if (is_textual(c.kind)) {
    const Kind kind = c.kind == kBody ? Kind::text : static_cast<Kind>(c.kind);
    if (r.u8() == 1) {
      std::vector<std::string_view> dictionary;
      for (std::size_t n = r.count(); n-- && r.ok();) dictionary.push_back(r.text());
      for (std::size_t row = 0; row < count_ && r.ok(); ++row) {
        if (!present(row)) continue;
        const std::uint64_t i = dictionary.size() <= 256 ? r.u8() : r.varint();
        if (i >= dictionary.size())
          r.fail();
        else
          c.values[row] = Value::from_text(kind, dictionary[i]);
      }
    } else {
      std::vector<std::uint64_t> sizes(count_, 0);
      for (std::size_t row = 0; row < count_ && r.ok(); ++row)
        if (present(row)) sizes[row] = r.varint();
      for (std::size_t row = 0; row < count_ && r.ok(); ++row)
        if (present(row)) c.values[row] = Value::from_text(kind, r.bytes(sizes[row]));
    }
  }
  if (!r.ok()) {
    damaged_ = true;
    c.values.assign(count_, Value());
  }
}

const Block::Column* Block::fixed(std::uint8_t kind) const {
  for (Column& c : columns_)
    if (c.kind == kind && c.field == kNoField) {
      if (!c.loaded) load(c);
      return &c;
    }
  return nullptr;
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

Value Block::get(FieldId field) const {
  if (field == names::body) return Value::text(body(row_));
  Value of_more;
  for (Column& c : columns_) {
    if (c.field != field) continue;
    if (!c.loaded) load(c);
    if (c.values[row_].absent()) continue;
    if (!c.more) return c.values[row_];
    of_more = c.values[row_];
  }
  if (!of_more.absent()) return of_more;
  if (field == names::timestamp) return Value::timestamp(timestamp(row_));
  if (field == names::observed_timestamp) {
    const Column* c = fixed(kObserved);
    return c ? Value::timestamp(wrapped(static_cast<std::uint64_t>(c->values[row_].as_integer()) +
                                        static_cast<std::uint64_t>(timestamp(row_))))
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

StoredEvent Block::event(std::size_t row, std::vector<Field>& fields, std::vector<Field>& more) const {
  StoredEvent e;
  e.timestamp = timestamp(row);
  auto integer = [&](std::uint8_t kind) {
    const Column* c = fixed(kind);
    return c ? static_cast<std::uint64_t>(c->values[row].as_integer()) : 0;
  };
  e.observed = wrapped(integer(kObserved) + static_cast<std::uint64_t>(e.timestamp));
  e.order = order(row);
  e.stream = integer(kStream);
  e.position = integer(kPosition);
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

void append_event_json(const StoredEvent& e, bool types, std::string& out) {
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
  if (types) {
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
