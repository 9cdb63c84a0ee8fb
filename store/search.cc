#include "store/search.h"

#include <fmt/format.h>

#include <algorithm>
#include <charconv>
#include <cmath>
#include <deque>
#include <functional>
#include <set>
#include <unordered_map>
#include <unordered_set>

#include "core/bytes.h"
#include "store/bloom.h"

namespace dingle {
namespace {

constexpr std::size_t kMostCounted = 4'000'000;

struct Searched {
  std::string name, path;
};
// The indexes that the query names; those with the newest events first.
std::vector<Searched> newest_first(const std::vector<const Store*>& stores, const Query& query) {
  std::vector<std::pair<std::int64_t, Searched>> all;
  for (const Store* store : stores)
    for (const std::string& name : store->names())
      if (query.indexes.empty() ||
          std::any_of(query.indexes.begin(), query.indexes.end(),
                      [&](const std::string& glob) { return matches_glob(name, glob); }))
        all.push_back({0, {name, store->path_of(name)}});
  if (all.size() > 1) {
    for (auto& [last, index] : all) {
      try {
        last = read_index_info(index.path).last;
      } catch (const SqliteError&) {  // the reader will say what is wrong with it
      }
    }
    std::stable_sort(all.begin(), all.end(), [](const auto& a, const auto& b) { return a.first > b.first; });
  }
  std::vector<Searched> sorted;
  for (auto& [last, index] : all) sorted.push_back(std::move(index));
  return sorted;
}

// Calls visit(index, block, row) for every event of the stores that satisfies the query; `skip(block info)`
// true leaves a block out. Within an index blocks come newest first.
void scan(const std::vector<const Store*>& stores, const Query& query, Scanned& scanned,
          const std::function<bool(const IndexReader::BlockInfo&)>& skip,
          const std::function<void(const std::string&, Block&, std::size_t)>& visit) {
  std::vector<std::uint64_t> words;
  for (const std::string& word : query.where.required_words()) words.push_back(word_hash(word));
  if (query.from >= query.to) return;
  const bool no_end =
      query.to == std::numeric_limits<std::int64_t>::max();  // that instant has a place as well
  std::vector<Searched> indexes = newest_first(stores, query);
  if (query.oldest) std::reverse(indexes.begin(), indexes.end());
  for (const auto& [name, path] : indexes) {
    ++scanned.indexes;
    try {
      IndexReader reader(path);
      reader.begin();
      auto blocks = reader.blocks(query.from, no_end ? query.to : query.to - 1);
      if (query.oldest) std::reverse(blocks.begin(), blocks.end());
      for (const IndexReader::BlockInfo& info : blocks) {
        if (query.is_over()) {
          scanned.stopped = true;
          return;
        }
        ++scanned.blocks;
        if (skip(info)) {
          ++scanned.blocks_left_out;
          continue;
        }
        if (!words.empty()) {
          const std::string filter = reader.filter(info.id);
          const auto bits = bloom_bits(filter);
          if (!bits)
            scanned.problems.push_back("index " + name +
                                       ": a block's filter of words is damaged; all of it is read");
          else if (!std::all_of(words.begin(), words.end(),
                                [&](std::uint64_t word) { return bloom_may_have(*bits, word); })) {
            ++scanned.blocks_left_out;
            continue;
          }
        }
        auto block = reader.open(info.id);
        if (!block) {
          scanned.problems.push_back("index " + name + ": a block is damaged");
          continue;
        }
        if (!block->may_satisfy(query.where.bounds())) {
          ++scanned.blocks_left_out;
          continue;
        }
        const bool all_in_time = info.first >= query.from && (info.last < query.to || no_end);
        for (std::size_t row = 0; row < block->count(); ++row) {
          ++scanned.events;
          if (!all_in_time) {
            const std::int64_t t = block->timestamp(row);
            if (t < query.from || (t >= query.to && !no_end)) continue;
          }
          block->select(row);
          if (!query.where.holds(*block)) continue;
          ++scanned.matched;
          visit(name, *block, row);
        }
        if (block->damaged()) scanned.problems.push_back("index " + name + ": a block is damaged");
      }
      reader.end();
    } catch (const SqliteError& error) {
      scanned.problems.push_back("index " + name + ": " + error.what());
    }
  }
}

// How many events one stands for. Most blocks have no such field, which is seen once a block.
class Weights {
 public:
  std::uint64_t of(const Block& block, std::size_t row) {
    if (block_ != &block || row <= row_) {  // rows of a block ascend
      const auto fields = block.fields();
      any_ = std::find(fields.begin(), fields.end(), names::stands_for) != fields.end();
    }
    block_ = &block;
    row_ = row;
    if (!any_) return 1;
    const Value v = block.get(names::stands_for);
    return v.kind() == Kind::integer && v.as_integer() > 0 ? static_cast<std::uint64_t>(v.as_integer()) : 1;
  }

 private:
  const Block* block_ = nullptr;
  std::size_t row_ = 0;
  bool any_ = false;
};

// A value of a group's key; texts are views into it.
Value value_of(ByteReader& r) {
  const auto kind = static_cast<Kind>(r.u8());
  if (kind == Kind::decimal) return Value::decimal(r.decimal());
  if (kind == Kind::text || kind >= Kind::ip) return Value::from_text(kind, r.text());
  const std::int64_t v = r.zigzag();
  return kind == Kind::integer     ? Value::integer(v)
         : kind == Kind::boolean   ? Value::boolean(v != 0)
         : kind == Kind::timestamp ? Value::timestamp(v)
                                   : Value();
}
// The order of keys with equal counts: by their texts.
bool before(std::string_view a, std::string_view b, std::size_t values) {
  ByteReader ra(a), rb(b);
  for (std::size_t i = 0; i < values; ++i) {
    const Value x = value_of(ra), y = value_of(rb);
    if (x.is_textual() && y.is_textual()) {
      if (const int order = x.as_text().compare(y.as_text())) return order < 0;
    } else if (const int order = x.to_string().compare(y.to_string())) {
      return order < 0;
    }
  }
  return false;
}

}  // namespace

std::vector<FoundEvent> find_events(const std::vector<const Store*>& stores, const Query& query,
                                    std::size_t limit, bool types, Scanned& scanned, std::size_t most_bytes) {
  const auto write = [&](const StoredEvent& event, std::string& to) { append_event_json(event, types, to); };
  return find_events(stores, query, limit, write, scanned, most_bytes);
}

std::vector<FoundEvent> find_events(const std::vector<const Store*>& stores, const Query& query,
                                    std::size_t limit,
                                    const std::function<void(const StoredEvent&, std::string&)>& write,
                                    Scanned& scanned, std::size_t most_bytes) {
  const bool oldest = query.oldest;
  auto newer = [oldest](const FoundEvent& a, const FoundEvent& b) {  // comes before it in the answer
    return oldest ? a.place() < b.place() : a.place() > b.place();
  };
  const auto after = query.after;
  // Whether all between these times comes too late to be kept.
  const auto too_late = [&](std::int64_t first, std::int64_t last, std::int64_t limit_time) {
    return oldest ? first > limit_time : last < limit_time;
  };
  std::vector<FoundEvent> heap;  // the last of the kept on top
  std::vector<Field> fields, more;
  if (limit == 0) return heap;
  const std::size_t wanted = limit;
  std::size_t bytes = 0;      // of the JSON texts
  std::set<EventOrder> kept;  // an event that went to several destinations is one event
  scan(
      stores, query, scanned,
      [&](const IndexReader::BlockInfo& info) {
        if (after && (oldest ? info.last < after->timestamp : info.first > after->timestamp)) return true;
        return heap.size() == limit && too_late(info.first, info.last, heap.front().timestamp);
      },
      [&](const std::string& index, Block& block, std::size_t row) {
        FoundEvent found;
        found.timestamp = block.timestamp(row);
        if (heap.size() == limit && too_late(found.timestamp, found.timestamp, heap.front().timestamp))
          return;
        found.order = block.order(row);
        if (after && (oldest ? found.place() <= *after : found.place() >= *after)) return;
        if (kept.count(found.order)) return;
        if (heap.size() == limit) {
          if (!newer(found, heap.front())) return;
          kept.erase(heap.front().order);
          bytes -= heap.front().json.size();
          std::pop_heap(heap.begin(), heap.end(), newer);
          heap.pop_back();
        }
        kept.insert(found.order);
        found.index = index;
        write(block.event(row, fields, more), found.json);
        bytes += found.json.size();
        // Too many bytes: the oldest make room, and the answer is short.
        while (bytes > most_bytes && !heap.empty() && newer(found, heap.front())) {
          limit = heap.size();
          bytes -= heap.front().json.size();
          kept.erase(heap.front().order);
          std::pop_heap(heap.begin(), heap.end(), newer);
          heap.pop_back();
        }
        if (bytes > most_bytes && !heap.empty()) {
          limit = heap.size();
          bytes -= found.json.size();
          kept.erase(found.order);
          return;
        }
        heap.push_back(std::move(found));
        std::push_heap(heap.begin(), heap.end(), newer);
      });
  std::sort_heap(heap.begin(), heap.end(), newer);
  scanned.cut = limit < wanted;
  return heap;
}

std::string EventPlace::text() const {
  return fmt::format("{}-{:x}-{:x}-{:x}-{:x}", timestamp, order.spool, order.epoch, order.number,
                     order.ordinal);
}

std::optional<EventPlace> EventPlace::parse(std::string_view text) {
  EventPlace place;
  const char *at = text.data(), *const end = at + text.size();
  const auto r = std::from_chars(at, end, place.timestamp);
  if (r.ec != std::errc()) return std::nullopt;
  at = r.ptr;
  for (std::uint64_t* part :
       {&place.order.spool, &place.order.epoch, &place.order.number, &place.order.ordinal}) {
    if (at == end || *at++ != '-') return std::nullopt;
    const auto hex = std::from_chars(at, end, *part, 16);
    if (hex.ec != std::errc()) return std::nullopt;
    at = hex.ptr;
  }
  return at == end ? std::optional(place) : std::nullopt;
}

FieldsSeen fields_seen(const std::vector<const Store*>& stores, const Query& query, Scanned& scanned) {
  FieldsSeen result;
  std::map<std::string, FieldSeen, std::less<>> seen;
  const auto add_examples = [](Block& block, const Block::ColumnInfo& column, FieldSeen& field) {
    for (std::size_t row = 0; row < block.count() && field.examples.size() < FieldSeen::kExamples; ++row) {
      block.select(row);
      const Value value = block.get(column.field);
      if (value.absent()) continue;
      const std::string text = value.to_string();
      if (std::find(field.examples.begin(), field.examples.end(), text) == field.examples.end())
        field.examples.push_back(text);
    }
  };
  const bool all_time = query.to == std::numeric_limits<std::int64_t>::max();
  for (const auto& [name, path] : newest_first(stores, query)) {
    if (query.from >= query.to) break;
    ++scanned.indexes;
    try {
      IndexReader reader(path);
      reader.begin();
      for (const IndexReader::BlockInfo& info :
           reader.blocks(query.from, all_time ? query.to : query.to - 1)) {
        if (query.is_over()) {
          scanned.stopped = true;
          break;
        }
        const auto block = reader.open(info.id);
        if (!block) continue;
        ++scanned.blocks;
        result.events += block->count();
        for (const Block::ColumnInfo& column : block->columns()) {
          auto it = seen.find(column.name);
          if (it == seen.end() && seen.size() == FieldSeen::kMostFields) {
            result.more = true;
            continue;
          }
          const bool first = it == seen.end();
          if (first) it = seen.emplace(std::string(column.name), FieldSeen()).first;
          FieldSeen& field = it->second;
          field.events += column.present;
          field.bytes += column.bytes;
          field.kinds[column.kind] += column.present;
          field.own = field.own || !column.more;
          if (first) add_examples(*block, column, field);
        }
      }
    } catch (const SqliteError& error) {
      scanned.problems.push_back("index " + name + ": " + error.what());
    }
  }
  scanned.events = result.events;
  for (auto& [name, field] : seen) {
    field.name = name;
    result.fields.push_back(std::move(field));
  }
  return result;
}

UnknownFields unknown_fields(const std::vector<const Store*>& stores, const Query& query,
                             const std::vector<FieldId>& fields) {
  constexpr std::size_t kMostBlocks = 1000;
  UnknownFields result;
  std::set<std::string, std::less<>> known;
  for (const FieldId part : {names::body, names::timestamp, names::observed_timestamp})
    known.emplace(field_name(part));
  const bool all_time = query.to == std::numeric_limits<std::int64_t>::max();
  for (const auto& [name, path] : newest_first(stores, query)) {
    if (query.from >= query.to || result.blocks == kMostBlocks) break;
    try {
      IndexReader reader(path);
      for (const IndexReader::BlockInfo& info :
           reader.blocks(query.from, all_time ? query.to : query.to - 1)) {
        if (result.blocks == kMostBlocks || query.is_over()) break;
        const auto block = reader.open(info.id);
        if (!block) continue;
        ++result.blocks;
        for (const FieldId field : block->fields()) known.emplace(field_name(field));
      }
    } catch (const SqliteError&) {
      // The search said so.
    }
  }
  for (const FieldId field : fields)
    if (known.count(field_name(field)) == 0) result.unknown.emplace_back(field_name(field));
  result.known.assign(known.begin(), known.end());
  return result;
}

Grouped group_events(const std::vector<const Store*>& stores, const Query& query, const Grouping& g,
                     Scanned& scanned) {
  struct Accumulator {
    std::uint64_t count = 0, seen = 0;  // seen: of stored events
    double sum = 0, least = INFINITY, greatest = -INFINITY;
    std::vector<std::pair<double, std::uint64_t>> samples;  // with their weights
  };
  Grouped result;
  std::unordered_map<std::string, Accumulator> groups;  // key: bucket and values, encoded
  std::vector<FieldId> fields;
  for (const std::string& name : g.fields) fields.push_back(field_id(name));
  std::unordered_set<std::uint64_t> counted;  // an event that went to several destinations counts once
  const FieldId measured = g.measure == Measure::count ? kNoField : field_id(g.field);
  // Once there are too many groups, most keys are of none: this tells so without a look into the table.
  constexpr std::size_t kBits = 1u << 20;
  std::vector<bool> may_be_there(kBits);
  std::string key;
  constexpr std::size_t kMostKeyBytes = 64u << 20;
  std::size_t key_bytes = 0;
  Weights weights;
  scan(
      stores, query, scanned, [](const IndexReader::BlockInfo&) { return false; },
      [&](const std::string&, Block& block, std::size_t row) {
        if (stores.size() > 1) {
          const EventOrder order = block.order(row);
          if (counted.size() >= kMostCounted)
            result.approximate = true;
          else if (!counted.insert(XXH64(&order, sizeof order, 0)).second)
            return;
        }
        const std::uint64_t weight = g.as_stored ? 1 : weights.of(block, row);
        result.weighted = result.weighted || weight != 1;
        double number = 0;
        if (measured != kNoField) {
          Value v = block.get(measured);
          if (!v.is_number()) return;
          number = v.as_number();
        }
        key.clear();
        ByteWriter w(key);
        std::int64_t bucket = 0;
        if (g.bucket > 0) {
          std::int64_t since = 0;
          if (__builtin_sub_overflow(block.timestamp(row), g.bucket_origin, &since))
            since = block.timestamp(row);
          const std::int64_t behind = since % g.bucket < 0 ? since % g.bucket + g.bucket : since % g.bucket;
          // The first bucket of all may begin before the first instant.
          if (__builtin_sub_overflow(block.timestamp(row), behind, &bucket))
            bucket = std::numeric_limits<std::int64_t>::min();
        }
        w.zigzag(bucket);
        for (FieldId field : fields) {
          Value v = block.get(field);
          w.u8(static_cast<std::uint8_t>(v.kind()));
          if (v.is_textual())
            w.text(v.as_text());
          else if (v.kind() == Kind::decimal)
            w.decimal(v.as_decimal());
          else
            w.zigzag(v.as_integer());
        }
        const std::size_t bit = XXH3_64bits(key.data(), key.size()) % kBits;
        const bool full = groups.size() >= kMostGroups || key_bytes >= kMostKeyBytes;
        if (full && !may_be_there[bit]) {
          result.approximate = true;
          return;
        }
        auto it = groups.find(key);
        if (it == groups.end()) {
          if (full) {
            result.approximate = true;
            return;
          }
          it = groups.try_emplace(key).first;
          key_bytes += key.size();
          may_be_there[bit] = true;
        }
        Accumulator& a = it->second;
        a.count += weight;
        ++a.seen;
        a.sum += number * static_cast<double>(weight);
        a.least = std::min(a.least, number);
        a.greatest = std::max(a.greatest, number);
        if (g.measure == Measure::percentile) {
          if (a.samples.size() < kMostSamples)
            a.samples.emplace_back(number, weight);
          else {  // a reservoir: each value is kept with the same chance
            result.approximate = true;
            const std::uint64_t slot = XXH64(&a.seen, sizeof a.seen, 0) % a.seen;
            if (slot < kMostSamples) a.samples[slot] = {number, weight};
          }
        }
      });
  // Only those that are wanted are decoded and put in order.
  struct Key {
    std::int64_t bucket = 0;
    std::uint64_t count = 0;
    std::string_view values;  // encoded
    Accumulator* measured = nullptr;
  };
  std::vector<Key> keys;
  keys.reserve(groups.size());
  for (auto& [encoded, a] : groups) {
    ByteReader r(encoded);
    const std::int64_t bucket = r.zigzag();
    keys.push_back({bucket, a.count, r.rest(), &a});
    result.events += a.count;
    if (!fields.empty() && static_cast<Kind>(r.u8()) == Kind::absent) result.without += a.count;
  }
  result.found = keys.size();
  const std::size_t wanted = g.most == 0 ? keys.size() : std::min(g.most, keys.size());
  std::partial_sort(keys.begin(), keys.begin() + static_cast<std::ptrdiff_t>(wanted), keys.end(),
                    [&](const Key& a, const Key& b) {
                      if (a.bucket != b.bucket) return a.bucket < b.bucket;
                      if (a.count != b.count) return a.count > b.count;
                      return before(a.values, b.values, fields.size());
                    });
  keys.resize(wanted);
  std::deque<std::string> texts;
  for (const Key& key_of_group : keys) {
    Accumulator& a = *key_of_group.measured;
    Group group;
    group.bucket = key_of_group.bucket;
    ByteReader r(key_of_group.values);
    for (std::size_t i = 0; i < fields.size(); ++i) {
      Value v = value_of(r);
      if (v.is_textual()) v = Value::from_text(v.kind(), texts.emplace_back(v.as_text()));
      group.keys.push_back(v);
    }
    group.count = a.count;
    switch (g.measure) {
      case Measure::count: group.value = static_cast<double>(a.count); break;
      case Measure::sum: group.value = a.sum; break;
      case Measure::average: group.value = a.sum / static_cast<double>(a.count); break;
      case Measure::minimum: group.value = a.least; break;
      case Measure::maximum: group.value = a.greatest; break;
      case Measure::percentile: {  // nearest rank, each value as often as its event stands for
        std::sort(a.samples.begin(), a.samples.end());
        std::uint64_t all = 0, below = 0;
        for (const auto& [value, weight] : a.samples) all += weight;
        const double rank = std::max(1.0, std::ceil(g.percentile / 100 * static_cast<double>(all)));
        auto at = a.samples.begin();
        while (std::next(at) != a.samples.end() && static_cast<double>(below += at->second) < rank) ++at;
        group.value = at->first;
      }
    }
    result.groups.push_back(std::move(group));
  }
  result.texts = std::move(texts);
  return result;
}

}  // namespace dingle
