// Questions to a store: find events, count them, measure their fields.
//
// Blocks are left out by the indexes' names, event times, least and greatest values, and the filter of words;
// what is left is evaluated with the same conditions as everywhere. Searching goes on while others write:
// each index is seen in one state. Bounded: results by `limit`, groups by kMostGroups, percentiles by
// kMostSamples values a group.
#pragma once

#include <atomic>
#include <chrono>
#include <cstdint>
#include <deque>
#include <limits>
#include <map>
#include <memory>
#include <optional>
#include <string>
#include <vector>

#include "core/condition/condition.h"
#include "core/glob.h"
#include "store/store.h"

namespace dingle {

inline constexpr std::size_t kMostGroups = 50'000;
inline constexpr std::size_t kMostGroupsOverTime = 150'000;  // of all buckets
inline constexpr std::size_t kMostSamples = 200'000;

// The place of an event in the order of all: by time, events of one time by where they lie.
struct EventPlace {
  std::int64_t timestamp = 0;
  EventOrder order;
  friend auto operator<=>(const EventPlace&, const EventPlace&) = default;
  std::string text() const;  // "1795428000000000000-1f-2-3-4"
  static std::optional<EventPlace> parse(std::string_view text);
};

struct Query {
  Condition where;
  std::int64_t from =
      std::numeric_limits<std::int64_t>::min();                // event times, ns since 1970; from inclusive,
  std::int64_t to = std::numeric_limits<std::int64_t>::max();  // to exclusive
  bool oldest = false;                                         // the oldest come first
  std::optional<EventPlace> after;   // only what comes behind that place, in the order in which events come
  std::vector<std::string> indexes;  // names, `*` for any text; empty: all
  std::chrono::steady_clock::time_point until =
      std::chrono::steady_clock::time_point::max();         // then it stops
  std::shared_ptr<const std::atomic<bool>> left = nullptr;  // it stops once this is set: nobody waits for it
  bool has_no_end() const {
    return to == std::numeric_limits<std::int64_t>::max();
  }  // that instant counts as well
  bool in_time(std::int64_t t) const { return t >= from && (t < to || has_no_end()); }
  bool covers(std::int64_t first, std::int64_t last) const { return in_time(first) && in_time(last); }
  bool is_conditional() const { return !where.text().empty(); }
  bool is_over() const { return (left != nullptr && *left) || std::chrono::steady_clock::now() >= until; }
};

struct Scanned {
  std::uint64_t indexes = 0, blocks = 0, blocks_left_out = 0, events = 0, matched = 0;
  std::uint64_t damaged = 0;          // events that cannot be read, of blocks that might have fitted
  std::vector<std::string> problems;  // what could not be read
  bool cut = false;                   // there was no room for all that were asked for
  // The time was over before all was read. What was read is the newest: indexes, and blocks within them, come newest first.
  bool stopped = false;
  bool unread = false;  // an index could not be read, or not to its end
  // Whether the answer is of all that was asked for.
  bool complete() const { return !stopped && !unread && damaged == 0; }
};

// Names of fields that no event in the time of the query has, as far as the newest blocks say: why nothing was found.
struct UnknownFields {
  std::vector<std::string> unknown;
  std::vector<std::string> known;  // all names that there are
  std::size_t blocks = 0;          // that were looked at, at most 1000
};
UnknownFields unknown_fields(const std::vector<const Store*>& stores, const Query& query,
                             const std::vector<FieldId>& fields);

// What the directories of blocks say of the fields in the time of the query; its condition does not count. A block counts whole that
// lies partly in that time.
struct FieldSeen {
  std::string name;
  std::map<Kind, std::uint64_t> kinds;  // and how many events have it so
  std::uint64_t events = 0, bytes = 0;  // bytes as in the columns, before they are compressed
  bool own = false;                     // some event has it itself, not from where it came
  std::vector<std::string> examples;    // at most kExamples that differ, of the newest block that has it
  static constexpr std::size_t kExamples = 3, kMostFields = 10'000;
};
struct FieldsSeen {
  std::vector<FieldSeen> fields;  // by name
  std::uint64_t events = 0;
  bool more = false;  // there are more than kMostFields
};
// Costs a directory a block, and of each field one column.
FieldsSeen fields_seen(const std::vector<const Store*>& stores, const Query& query, Scanned& scanned);

struct FoundEvent {
  std::int64_t timestamp = 0;
  EventOrder order;
  std::string index, json;  // the event as one JSON object
  EventPlace place() const { return {timestamp, order}; }
};
// The newest `limit` events, newest first (or the oldest, oldest first); fewer if their texts would have more than `most_bytes` in all, which
// `scanned.cut` then says. `write`: what makes the texts.
std::vector<FoundEvent> find_events(const std::vector<const Store*>& stores, const Query& query,
                                    std::size_t limit,
                                    const std::function<void(const StoredEvent&, std::string&)>& write,
                                    Scanned& scanned, std::size_t most_bytes = SIZE_MAX);
// The same as JSON.
std::vector<FoundEvent> find_events(const std::vector<const Store*>& stores, const Query& query,
                                    std::size_t limit, const EventJson& with, Scanned& scanned,
                                    std::size_t most_bytes = SIZE_MAX);

enum class Measure { count, sum, average, minimum, maximum, percentile };
struct Grouping {
  std::int64_t bucket = 0;          // ns; 0: not by time
  Zone zone;                        // by whose clock buckets begin (`bucket_at`)
  std::vector<std::string> fields;  // up to two
  Measure measure = Measure::count;
  std::string field;  // what is measured; not for count
  double percentile = 50;
  bool as_stored = false;  // each event counts once, whatever it stands for (`dingle.stands_for`)
  std::size_t most = 0;    // groups that are wanted, the greatest of the first bucket first; 0: all
};
struct Group {
  std::int64_t bucket = 0;  // its beginning
  std::vector<Value> keys;  // of the fields; absent where an event lacks it
  std::uint64_t count = 0;  // events (with the field, unless counting), each as many times as it stands for
  double value = 0;         // of the measure
};
struct Grouped {
  std::vector<Group> groups;  // by bucket, then by count, most first
  std::vector<Group>
      others;  // by bucket: what found no group of its own, so that the sums are those of all events; no keys
  std::uint64_t found = 0;    // groups, with those that are not wanted; an estimate, if there are others
  std::uint64_t events = 0;   // and the events in them;
  std::uint64_t without = 0;  // of those, without the first field
  bool weighted = false;      // some events stand for several
  bool approximate =
      false;  // there were more groups or values than are kept: of a group that came late, its first events
              // may be with the others
  std::deque<std::string> texts;  // owns the keys' texts
};
// Events that have the field (for count: all), by bucket and by the fields' values.
Grouped group_events(const std::vector<const Store*>& stores, const Query& query, const Grouping& grouping,
                     Scanned& scanned);

}  // namespace dingle
