#include <xxhash.h>
#include <zstd.h>

#include <algorithm>
#include <cmath>
#include <limits>
#include <unordered_map>

#include "core/bytes.h"
#include "store/block.h"
#include "store/block_format.h"
#include "store/bloom.h"

namespace dingle {

using namespace block_format;

namespace {

// A set of hashes in one array, emptied without giving its memory back.
class HashSet {
 public:
  void clear() {
    std::fill(slots_.begin(), slots_.end(), 0);
    all_.clear();
  }
  void add(std::uint64_t hash) {
    if (all_.size() * 2 >= slots_.size()) grow();
    if (hash == 0) hash = 1;
    std::size_t i = hash & (slots_.size() - 1);
    while (slots_[i] != 0) {
      if (slots_[i] == hash) return;
      i = (i + 1) & (slots_.size() - 1);
    }
    slots_[i] = hash;
    all_.push_back(hash);
  }
  const std::vector<std::uint64_t>& all() const { return all_; }

 private:
  void grow() {
    std::vector<std::uint64_t> old = std::move(all_);
    all_.clear();
    slots_.assign(std::max<std::size_t>(1024, slots_.size() * 2), 0);
    for (std::uint64_t h : old) add(h);
  }
  std::vector<std::uint64_t> slots_, all_;
};

}  // namespace

struct BlockEncoder::Memory {
  struct Column {
    FieldId field = kNoField;
    std::uint8_t kind = 0;  // as it is written
    std::uint8_t type() const { return static_cast<std::uint8_t>(kind & ~kMore); }
    std::vector<std::uint32_t> rows;
    std::vector<Value> values;
  };
  std::vector<Column> columns;
  std::size_t used = 0;
  // Columns by field: the first one + 1; of a field that came with data, under each id that its name has in the dictionaries of
  // the events.
  std::unordered_map<FieldId, std::uint16_t> first_of_field;
  std::unordered_map<std::string_view, FieldId> by_text;  // of names that came with data
  std::vector<std::uint16_t> next_of_field;               // by column: the next column of that field + 1
  // Events have the same fields in the same order, as a rule: where each stood in the one before.
  struct Guess {
    FieldId field = kNoField;
    std::uint8_t kind = 0;
    std::size_t column = 0;
  };
  std::vector<Guess> guesses;
  std::size_t next_guess = 0;
  HashSet words;
  std::vector<std::uint32_t> dictionary_slots, dictionary_index;
  std::vector<std::string_view> dictionary;
  std::string raw;
  ZSTD_CCtx* context = ZSTD_createCCtx();
  ~Memory() { ZSTD_freeCCtx(context); }

  Column& column(FieldId field, std::uint8_t kind) {
    if (next_guess == guesses.size()) guesses.emplace_back();
    Guess& guess = guesses[next_guess++];
    if (guess.field != field || guess.kind != kind) guess = {field, kind, look_up(field, kind)};
    return columns[guess.column];
  }
  std::size_t look_up(FieldId field, std::uint8_t kind) {
    const FieldId one = field->lasting ? field : by_text.try_emplace(field->text, field).first->second;
    const std::uint16_t first = first_of_field[one];
    std::uint16_t last = 0;
    for (std::uint16_t i = first; i != 0; last = i, i = next_of_field[i - 1u])
      if (columns[i - 1u].kind == kind) return i - 1u;
    const auto added = static_cast<std::uint16_t>(used + 1);
    add(one, kind);
    if (first == 0)
      first_of_field[one] = added;
    else
      next_of_field[last - 1u] = added;
    return added - 1u;
  }
  Column& add(FieldId field, std::uint8_t kind) {
    if (used == columns.size()) columns.emplace_back();
    Column& c = columns[used++];
    next_of_field.resize(used);
    next_of_field[used - 1] = 0;
    c.field = field;
    c.kind = kind;
    c.rows.clear();
    c.values.clear();
    return c;
  }
  void clear() {
    first_of_field.clear();
    by_text.clear();
    guesses.clear();
    used = 0;
    words.clear();
  }
  void add_words(std::string_view text) {
    for_each_word(text, [&](std::string_view word) { words.add(word_hash(word)); });
  }
  // The words of a field that is a slice of the body are the body's, unless the slice cuts one.
  void add_words(std::string_view text, std::string_view body) {
    if (text.data() >= body.data() && text.data() + text.size() <= body.data() + body.size() &&
        !text.empty()) {
      const char* before = text.data() - 1;
      const char* after = text.data() + text.size();
      const bool cut =
          (before >= body.data() && is_word_byte(*before) && is_word_byte(text[0])) ||
          (after < body.data() + body.size() && is_word_byte(*after) && is_word_byte(text.back()));
      if (!cut) return;
    }
    add_words(text);
  }
  bool make_dictionary(const std::vector<Value>& values);
  void write(const Column& c, std::size_t count);
};

// Fills `dictionary` and `dictionary_index`; false when too many values differ.
bool BlockEncoder::Memory::make_dictionary(const std::vector<Value>& values) {
  const std::size_t most = std::min<std::size_t>(values.size() / 2 + 1, 2000);
  dictionary_slots.assign(8192, 0);
  dictionary.clear();
  dictionary_index.clear();
  std::string_view previous;
  std::uint32_t previous_index = 0;
  for (const Value& v : values) {
    std::string_view t = v.as_text();
    if (!dictionary.empty() && t == previous) {
      dictionary_index.push_back(previous_index);
      continue;
    }
    std::size_t slot = XXH64(t.data(), t.size(), 0) & 8191;
    while (dictionary_slots[slot] != 0 && dictionary[dictionary_slots[slot] - 1] != t)
      slot = (slot + 1) & 8191;
    if (dictionary_slots[slot] == 0) {
      if (dictionary.size() == most) return false;
      dictionary.push_back(t);
      dictionary_slots[slot] = static_cast<std::uint32_t>(dictionary.size());
    }
    previous = t;
    previous_index = dictionary_slots[slot] - 1;
    dictionary_index.push_back(previous_index);
  }
  return true;
}

void BlockEncoder::Memory::write(const Column& c, std::size_t count) {
  raw.clear();
  ByteWriter w(raw);
  const bool all = c.rows.size() == count;
  w.u8(all);
  if (!all) {
    raw.resize(1 + (count + 7) / 8, '\0');
    for (std::uint32_t row : c.rows) raw[1 + row / 8] = static_cast<char>(raw[1 + row / 8] | 1 << (row % 8));
  }
  if (is_integral(c.type())) {
    std::uint64_t before = 0;
    for (const Value& v : c.values) {
      w.zigzag(wrapped(static_cast<std::uint64_t>(v.as_integer()) - before));
      before = static_cast<std::uint64_t>(v.as_integer());
    }
  } else if (c.type() == static_cast<std::uint8_t>(Kind::boolean)) {
    for (const Value& v : c.values) w.u8(v.as_boolean());
  } else if (c.type() == static_cast<std::uint8_t>(Kind::decimal)) {
    for (const Value& v : c.values) w.decimal(v.as_decimal());
  } else if (c.kind != kBody && make_dictionary(c.values)) {
    w.u8(1);
    w.varint(dictionary.size());
    for (std::string_view t : dictionary) w.text(t);
    for (std::uint32_t i : dictionary_index) {
      if (dictionary.size() <= 256)
        w.u8(static_cast<std::uint8_t>(i));
      else
        w.varint(i);
    }
  } else {
    w.u8(0);
    for (const Value& v : c.values) w.varint(v.as_text().size());
    for (const Value& v : c.values) w.raw(v.as_text());
  }
}

BlockEncoder::BlockEncoder() : memory_(std::make_unique<Memory>()) {}
BlockEncoder::~BlockEncoder() = default;
void BlockEncoder::forget_memory() { memory_ = std::make_unique<Memory>(); }

EncodedBlock BlockEncoder::encode(std::span<const StoredEvent> events, std::size_t& taken) {
  Memory& m = *memory_;
  m.clear();
  std::size_t kinds[kBranch + 1] = {};
  for (std::uint8_t kind = kTimestamp; kind <= kLastFixed; ++kind) {
    kinds[kind] = m.used;
    m.add(kNoField, kind);
  }
  EncodedBlock block;
  block.first = std::numeric_limits<std::int64_t>::max();
  block.last = std::numeric_limits<std::int64_t>::min();
  taken = 0;
  for (const StoredEvent& e : events) {
    if (taken == kEventsPerBlock || (taken > 0 && m.used + e.fields.size() + e.more.size() > kMostColumns))
      break;
    const auto row = static_cast<std::uint32_t>(taken++);
    m.next_guess = 0;
    auto put = [&](std::uint8_t kind, Value v) {
      Memory::Column& c = m.columns[kinds[kind]];
      c.rows.push_back(row);
      c.values.push_back(v);
    };
    put(kTimestamp, Value::integer(e.timestamp));
    put(kObserved, Value::integer(wrapped(static_cast<std::uint64_t>(e.observed) -
                                          static_cast<std::uint64_t>(e.timestamp))));
    put(kSpool, Value::integer(wrapped(e.order.spool)));
    put(kEpoch, Value::integer(wrapped(e.order.epoch)));
    put(kNumber, Value::integer(wrapped(e.order.number)));
    put(kOrdinal, Value::integer(wrapped(e.order.ordinal)));
    put(kStream, Value::integer(wrapped(e.stream)));
    put(kPosition, Value::integer(wrapped(e.position)));
    put(kBody, Value::text(e.body));
    if (e.branch != 0) {
      if (kinds[kBranch] == 0) kinds[kBranch] = m.used, m.add(kNoField, kBranch);
      put(kBranch, Value::integer(e.branch));
    }
    m.add_words(e.body);
    for (auto fields : {e.fields, e.more})
      for (const Field& f : fields) {
        if (f.value.absent() || f.name == kNoField) continue;
        const bool more = fields.data() == e.more.data();
        Memory::Column& c = m.column(
            f.name,
            static_cast<std::uint8_t>(static_cast<std::uint8_t>(f.value.kind()) | (more ? kMore : 0)));
        if (!c.rows.empty() && c.rows.back() == row) continue;  // twice in one event: the first stays
        c.rows.push_back(row);
        c.values.push_back(f.value);
        const std::size_t n = c.values.size();
        if (f.value.is_textual() && (n < 2 || c.values[n - 2].as_text() != f.value.as_text()))
          m.add_words(f.value.as_text(), e.body);
      }
    block.first = std::min(block.first, e.timestamp);
    block.last = std::max(block.last, e.timestamp);
  }
  block.count = taken;

  ByteWriter w(block.directory);
  w.varint(2);
  w.varint(taken);
  w.varint(m.used);
  std::string shared;  // the chunk that small columns share
  std::vector<std::string> own;
  auto compress = [&](const std::string& raw) {
    std::string out(ZSTD_compressBound(raw.size()), '\0');
    const std::size_t n = ZSTD_compressCCtx(m.context, out.data(), out.size(), raw.data(), raw.size(), 1);
    out.resize(ZSTD_isError(n) ? 0 : n);
    return out;
  };
  for (std::size_t i = 0; i < m.used; ++i) {
    const Memory::Column& c = m.columns[i];
    m.write(c, taken);
    w.text(c.field == kNoField ? std::string_view() : field_name(c.field));
    w.u8(c.kind);
    w.varint(c.rows.size());
    if (m.raw.size() < kOwnChunk) {
      w.varint(0);
      w.varint(shared.size());
      shared += m.raw;
    } else {
      own.push_back(compress(m.raw));
      w.varint(own.size());
      w.varint(0);
    }
    w.varint(m.raw.size());
    const bool integral = c.type() == static_cast<std::uint8_t>(Kind::integer) ||
                          c.type() == static_cast<std::uint8_t>(Kind::timestamp) || c.type() == kStream ||
                          c.type() == kPosition;
    const bool decimal = c.type() == static_cast<std::uint8_t>(Kind::decimal);
    w.u8((integral || decimal) && !c.values.empty());
    if (integral && !c.values.empty()) {
      auto [least, greatest] =
          std::minmax_element(c.values.begin(), c.values.end(),
                              [](const Value& a, const Value& b) { return a.as_integer() < b.as_integer(); });
      w.zigzag(least->as_integer());
      w.zigzag(greatest->as_integer());
    } else if (decimal && !c.values.empty()) {
      double least = std::numeric_limits<double>::infinity(), greatest = -least;
      for (const Value& v : c.values) {
        if (std::isnan(v.as_decimal())) {  // it has no place among the others: no bounds
          least = -std::numeric_limits<double>::infinity(), greatest = -least;
          break;
        }
        least = std::min(least, v.as_decimal());
        greatest = std::max(greatest, v.as_decimal());
      }
      w.decimal(least);
      w.decimal(greatest);
    }
  }
  block.chunks.push_back(compress(shared));
  for (std::string& chunk : own) block.chunks.push_back(std::move(chunk));
  block.filter = make_bloom(m.words.all());
  return block;
}

}  // namespace dingle
