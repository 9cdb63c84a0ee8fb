// The call that counts and measures over event time.
#include <algorithm>
#include <charconv>
#include <limits>

#include "core/nearest.h"
#include "core/time/buckets.h"
#include "core/time/instant.h"
#include "server/calls/asking.h"
#include "server/json_answer.h"
#include "store/search.h"

namespace dingle {
namespace {

constexpr std::uint64_t kMostBuckets = 50'000;
constexpr std::uint64_t kMostEmpty = 10'000;  // buckets up to which each empty one has a row of its own

void measure(const Asked& asked, Grouping& g) {
  const std::string& measure = asked.text("measure");
  static const std::vector<std::pair<std::string, Measure>> kMeasures{
      {"count", Measure::count},     {"sum", Measure::sum},         {"average", Measure::average},
      {"minimum", Measure::minimum}, {"maximum", Measure::maximum}, {"percentile", Measure::percentile}};
  std::vector<std::string> names;
  bool known = false;
  for (const auto& [name, m] : kMeasures) {
    names.push_back(name);
    if (measure == name) g.measure = m, known = true;
  }
  if (measure.starts_with("percentile:")) {
    g.measure = Measure::percentile;
    known = true;
    const std::string rank = measure.substr(11);
    auto r = std::from_chars(rank.data(), rank.data() + rank.size(), g.percentile);
    if (r.ec != std::errc() || r.ptr != rank.data() + rank.size() || g.percentile < 0 || g.percentile > 100)
      throw Refused{api_error(400, "`" + rank + "` is not a percentile",
                              "a number from 0 to 100, for instance percentile:95", "measure")};
  }
  if (!known) throw Refused{api_error(400, "unknown measure `" + measure + "`", one_of(names), "measure")};
  g.field = asked.text("field");
  if (g.measure != Measure::count && g.field.empty())
    throw Refused{api_error(400, "`field` is missing", "name the field that is measured", "field")};
}

// Some sixty buckets of a length that people count in.
std::int64_t nice_bucket(std::int64_t span) {
  for (std::int64_t seconds :
       {1, 5, 10, 30, 60, 300, 600, 1800, 3600, 3 * 3600, 6 * 3600, 12 * 3600, 86400, 7 * 86400})
    if (span / (seconds * kSecond) <= 60) return seconds * kSecond;
  return 30 * kDay * (1 + span / (60 * 30 * kDay));
}

// From when to when, and in which buckets.
struct Times {
  Query query;
  std::int64_t bucket = 0;
  bool left_out_earlier = false;  // there were too many buckets, and the last ones were taken

  std::uint64_t wide()
      const {  // a range may be longer than 292 years, which is all that 63 bits of nanoseconds hold
    return query.to > query.from
               ? static_cast<std::uint64_t>(query.to) - static_cast<std::uint64_t>(query.from)
               : 0;
  }
};

std::int64_t whole_span(std::uint64_t wide) {
  return static_cast<std::int64_t>(std::min<std::uint64_t>(wide, std::numeric_limits<std::int64_t>::max()));
}

// Without a range: from the bucket of the first event to now, so that silence is seen; and the length of a bucket goes by the time that
// has events.
Times times_of(const Asked& asked, const OpenStores& held, const Zone& zone) {
  Times times{asked.query(), asked.given("bucket") ? asked.duration("bucket") : 0, false};
  Query& query = times.query;
  std::int64_t first = std::numeric_limits<std::int64_t>::max(),
               last = std::numeric_limits<std::int64_t>::min();
  for (const Store* store : held.stores)
    for (const IndexInfo& info : store->indexes())
      if (info.events &&
          (query.indexes.empty() || std::ranges::any_of(query.indexes, [&](const std::string& glob) {
             return matches_glob(info.name, glob);
           })))
        first = std::min(first, info.first), last = std::max(last, info.last);
  const bool from = asked.given("from"), to = asked.given("to");
  if (first > last && (!from || !to)) {
    query.from = query.to = 0;
    times.bucket = std::max(times.bucket, kSecond);
    return times;
  }
  if (!from) query.from = first;
  if (!to) query.to = last == std::numeric_limits<std::int64_t>::max() ? last : last + 1;
  if (times.bucket == 0) times.bucket = nice_bucket(whole_span(times.wide()));
  const auto length = static_cast<std::uint64_t>(times.bucket);
  if (times.wide() / length > kMostBuckets) {
    if (from)
      throw Refused{api_error(400, "that would be more than " + std::to_string(kMostBuckets) + " buckets",
                              "take a longer bucket or a shorter time", "bucket")};
    query.from = query.to - static_cast<std::int64_t>(kMostBuckets * length);
    times.left_out_earlier = true;
  }
  if (!from) query.from = bucket_at(query.from, times.bucket, zone).begin;
  if (!to) query.to = std::max({query.from, system_now(), bucket_at(query.to - 1, times.bucket, zone).end});
  return times;
}

// The rows of an answer: buckets that have events, and between them those that have none.
class Rows {
 public:
  Rows(const Times& times, const Grouping& grouping)
      : times_(times),
        grouping_(grouping),
        each_empty_(times.wide() / static_cast<std::uint64_t>(times.bucket) <= kMostEmpty),
        next_(bucket_of(times.query.from)) {}

  void add(const Group& group, bool others) {
    const TimeBucket its = bucket_of(group.bucket);
    add_empty(its.begin);
    next_ = its.end > its.begin ? bucket_of(its.end) : its;
    Json row = row_of(its);
    std::size_t bytes = 120;
    if (others) row["others"] = true;
    for (const Value& key : group.keys) {
      row["keys"].push_back(value_json(key));
      bytes += key.is_textual() ? key.as_text().size() : 20;
    }
    row["count"] = group.count;
    if (grouping_.measure != Measure::count) row["value"] = group.value;
    put(std::move(row), bytes);
  }
  // Up to the end of the time.
  void end() { add_empty(times_.query.to); }
  Json take(Json root) {
    root = list_.with_cut(std::move(root));
    root["rows"] = list_.take();
    return root;
  }

 private:
  TimeBucket bucket_of(std::int64_t t) const { return bucket_at(t, grouping_.bucket, grouping_.zone); }
  void put(Json row, std::size_t bytes) {
    cut_ = cut_ || !list_.room(bytes);
    if (!cut_) list_.add(std::move(row));
  }
  Json row_of(const TimeBucket& its) const {
    Json row{{"time", format_rfc3339(its.begin)}};
    if (its.begin < times_.query.from || (its.end > times_.query.to && !times_.query.has_no_end()))
      row["partial"] = true;
    return row;
  }
  void add_empty(std::int64_t until) {
    while (!cut_ && next_.begin < until) {
      TimeBucket run = next_;
      if (!each_empty_) run.end = std::max(run.end, bucket_of(until - 1).end);
      Json row = row_of(run);
      if (run.end != next_.end) row["until"] = format_rfc3339(run.end);
      row["count"] = 0;
      if (grouping_.measure == Measure::sum) row["value"] = 0;
      put(std::move(row), 60);
      if (run.end == std::numeric_limits<std::int64_t>::max()) return;
      next_ = bucket_of(run.end);
    }
  }

  const Times& times_;
  const Grouping& grouping_;
  const bool each_empty_;
  bool cut_ = false;
  TimeBucket next_;  // the first that has no row yet
  AnswerList list_;
};

HttpAnswer count_over_time(Api& api, const Asked& asked) {
  const OpenStores held = stores(api, asked);
  Grouping g;
  g.fields = asked.texts("by");
  if (g.fields.size() > 2) throw Refused{api_error(400, "`by` may be given twice at most", "", "by")};
  measure(asked, g);
  g.as_stored = asked.flag("as_stored");
  g.zone = asked.zone("zone");
  const Times times = times_of(asked, held, g.zone);
  const Query& query = times.query;
  g.bucket = times.bucket;
  Scanned scanned;
  std::vector<FieldId> named = query.where.fields();
  for (const std::string& field : g.fields) named.push_back(field_id(field));
  if (!g.field.empty()) named.push_back(field_id(g.field));
  api.asked_fields().note(named, system_now());
  const Grouped grouped = group_events(held.stores, query, g, scanned);
  Json root{
      {"bucket_seconds", static_cast<double>(g.bucket) / 1e9}, {"zone", g.zone.name()}, {"by", g.fields}};
  if (times.wide() > 0) root["from"] = format_rfc3339(query.from), root["to"] = format_rfc3339(query.to);
  if (times.left_out_earlier) root["earlier_left_out"] = true;
  Rows rows(times, g);
  auto others = grouped.others.begin();
  const auto add_others = [&](std::int64_t before) {
    for (; others != grouped.others.end() && others->bucket < before; ++others) rows.add(*others, true);
  };
  for (const Group& group : grouped.groups) {
    add_others(group.bucket);
    rows.add(group, false);
  }
  add_others(std::numeric_limits<std::int64_t>::max());
  if (!grouped.groups.empty()) rows.end();
  root = rows.take(std::move(root));
  root["weighted"] = grouped.weighted;
  root["approximate"] = grouped.approximate;
  root["scanned"] = scanned_json(scanned);
  std::vector<FieldId> fields;  // that nothing was found by
  if (grouped.groups.empty()) fields = query.where.fields();
  if (grouped.groups.empty() && g.measure != Measure::count) fields.push_back(field_id(g.field));
  for (std::size_t i = 0; i < g.fields.size(); ++i)
    if (std::all_of(grouped.groups.begin(), grouped.groups.end(),
                    [&](const Group& group) { return group.keys[i].absent(); }))
      fields.push_back(field_id(g.fields[i]));
  if (grouped.groups.empty() || !fields.empty()) explain(root["scanned"], held, query, fields);
  return json_answer(root);
}

const CallRegistration kTimeline(
    {.method = "GET",
     .path = "/v1/timeline",
     .name = "measureOverTime",
     .text = "Counts or measures over event time. Without `from` and `to`: from the first event to now. "
             "Buckets without events have rows "
             "with a count of 0; of more than 10 000 buckets, a run of such ones has one row, with `until`. "
             "A row is "
             "`partial` where a part of its bucket lies outside the time, or in the future. Events that "
             "found no group of their own, since "
             "there are too many, are in rows with `others`: the sums are those of all events.",
     .parameters = with_query(
         {{.name = "bucket",
           .type = OptionType::duration,
           .text = "The length of a bucket: 10s, 5m. Some sixty for the time that has events, if missing. At "
                   "most 50 000: without "
                   "`from` those before the last event, and `earlier_left_out`.",
           .least = 1},
          {.name = "zone",
           .type = OptionType::zone,
           .text =
               "By whose clock buckets begin: Europe/Oslo, +02:00. A day has 23 or 25 hours where clocks are "
               "changed. UTC, if missing."},
          {.name = "as_stored",
           .type = OptionType::boolean,
           .text = "Count each stored event once, whatever it stands for (`dingle.stands_for`)."},
          {.name = "by", .type = OptionType::texts, .text = "A field to split by; may be given twice."},
          {.name = "measure",
           .fallback = "count",
           .text = "count, sum, average, minimum, maximum, or percentile:95."},
          {.name = "field", .text = "The field that is measured; not for count."}}),
     .run = count_over_time,
     .example =
         R"({"bucket_seconds":3600,"zone":"UTC","by":["ship"],"rows":[{"time":"2026-11-23T10:00:00Z","keys":["Fulmar"],
       "count":174}],"from":"2026-11-23T10:00:00Z","to":"2026-11-23T11:00:00Z","weighted":false,"approximate":false,"scanned":{"matched":174,
       "events_read":3725,"blocks":23,"blocks_left_out":0,"indexes":4,"complete":true}})",
     .answer =
         [] {
           return object_of({{"bucket_seconds", is_number()},
                             {"zone", is_text()},
                             {"by", list_of(is_text())},
                             {"rows", list_of(object_of({{"time", is_moment()},
                                                         {"until", is_moment(), false},
                                                         {"keys", list_of(value_schema()), false},
                                                         {"others", is_boolean(), false},
                                                         {"partial", is_boolean(), false},
                                                         {"count", is_integer()},
                                                         {"value", or_null(is_number()), false}}))},
                             {"from", is_moment(), false},
                             {"to", is_moment(), false},
                             {"earlier_left_out", is_boolean(), false},
                             {"weighted", is_boolean()},
                             {"approximate", is_boolean()},
                             cut_at_bytes(),
                             {"scanned", scanned_schema()}});
         },
     .is_long = true,
     .asks_stores = true});

}  // namespace
}  // namespace dingle
