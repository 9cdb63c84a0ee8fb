#include "store/search.h"

#include <fmt/format.h>

#include <algorithm>
#include <charconv>
#include <cmath>
#include <deque>
#include <functional>
#include <set>

#include "core/bytes.h"
#include "store/scan.h"

namespace dingle {
std::vector<FoundEvent> find_events(const std::vector<const Store*>& stores, const Query& query,
                                    std::size_t limit, const EventJson& with, Scanned& scanned,
                                    std::size_t most_bytes) {
  const auto write = [&](const StoredEvent& event, std::string& to) { append_event_json(event, with, to); };
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
        if (heap.size() == limit && !newer(found, heap.front())) return;
        found.index = index;
        write(block.event(row, fields, more), found.json);  // before anything makes room: it may be damaged
        if (heap.size() == limit) {
          kept.erase(heap.front().order);
          bytes -= heap.front().json.size();
          std::pop_heap(heap.begin(), heap.end(), newer);
          heap.pop_back();
        }
        kept.insert(found.order);
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
  tell_missing(stores, query, scanned);
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
        if (!block) {
          tell_damage(name, info.count, scanned);
          continue;
        }
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
          try {
            if (first) add_examples(*block, column, field);
          } catch (const DamagedBlock&) {
            tell_damage(name, 0, scanned);  // its directory says all the same what is counted
          }
        }
      }
    } catch (const SqliteError& error) {
      scanned.unread = true;
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

}  // namespace dingle
