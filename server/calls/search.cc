// The calls that ask the stores: events, top values, counts over time.
#include "store/search.h"

#include <algorithm>
#include <charconv>

#include "agent/sealing.h"
#include "agent/secret.h"
#include "core/condition/meant.h"
#include "core/json_text.h"
#include "core/nearest.h"
#include "core/time/instant.h"
#include "server/calls/asking.h"
#include "server/json_answer.h"

namespace dingle {
namespace {

Json value_json(const Value& v) {
  switch (v.kind()) {
    case Kind::absent: return nullptr;
    case Kind::integer: return v.as_integer();
    case Kind::decimal: return v.as_decimal();
    case Kind::boolean: return v.as_boolean();
    default: return v.to_string();
  }
}

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

HttpAnswer list_events(Api& api, const Asked& asked) {
  constexpr std::size_t kMostBytes = AnswerList::kMostBytes;
  const OpenStores held = stores(api, asked);
  Scanned scanned;
  Query query = asked.query();
  query.oldest = asked.flag("oldest");
  if (asked.given("after")) {
    query.after = EventPlace::parse(asked.text("after"));
    if (!query.after)
      return api_error(400, "`after` is no place of an event", "take it from `next` of an answer", "after");
  }
  api.asked_fields().note(query.where.fields(), system_now());
  const std::size_t limit = asked.number("limit");
  // One more than is wanted says whether there are more.
  auto found = find_events(held.stores, query, limit == 0 ? 0 : limit + 1,
                           {asked.flag("types"), asked.flag("ids")}, scanned, kMostBytes);
  const bool more = scanned.cut || found.size() > limit;
  if (found.size() > limit) found.pop_back();
  std::string out = "{\"events\":[";
  for (std::size_t i = 0; i < found.size(); ++i) {
    if (i) out += ',';
    out += found[i].json;
  }
  out += "],";
  if (more && !found.empty()) out += "\"next\":\"" + found.back().place().text() + "\",";
  if (scanned.cut) out += "\"cut_at_bytes\":" + std::to_string(kMostBytes) + ",";
  std::uint64_t changes = 0;
  for (const Store* store : held.stores) changes += store->changes();
  out += "\"changes\":" + std::to_string(changes) + ",";
  Json told = scanned_json(scanned);
  if (scanned.matched == 0) explain(told, held, query, query.where.fields());
  out += "\"scanned\":" + dump(told) + "}";
  return {200, "application/json", std::move(out), nullptr};
}

// Lines that were kept sealed, opened with the key of now.
HttpAnswer held_lines(Api& api, const Asked& asked) {
  const auto configuration = api.engine().configuration();
  const std::string place = configuration->server.section("held").text("key");
  if (place.empty())
    throw Refused{api_error(409, "there is no key for lines that are held",
                            "server: { held: { key: { file: PATH } } } in the configuration", "")};
  const auto secret = read_secret_at(place);
  if (!secret) throw Refused{api_error(409, secret.problem().message, secret.problem().hint, "")};
  const OpenStores held = stores(api, asked);
  Query query = asked.query();
  const std::string where = query.where.text();
  auto narrowed = Condition::parse((where.empty() ? "" : "(" + where + ") and ") +
                                   std::string("\"dingle.held\" is not null"));
  if (!narrowed) throw Refused{api_error(400, narrowed.problem().message, narrowed.problem().hint, "where")};
  query.where = std::move(*narrowed);
  Scanned scanned;
  AnswerList lines;
  std::uint64_t closed = 0;
  for (const FoundEvent& found :
       find_events(held.stores, query, asked.number("limit"), false, scanned, AnswerList::kMostBytes)) {
    Json event = Json::parse(found.json, nullptr, false);
    const auto line = open_sealed(event.value("dingle.held", ""), *secret);
    closed += !line;
    event.erase("dingle.held");
    event["line"] = line ? Json(valid_utf8(*line)) : Json(nullptr);
    if (!lines.room(found.json.size() + (line ? line->size() : 0))) break;
    lines.add(std::move(event));
  }
  Json root = lines.with_cut({{"lines", Json::array()}});
  root["lines"] = lines.take();
  root["closed"] = closed;
  root["scanned"] = scanned_json(scanned);
  return json_answer(root);
}

HttpAnswer top_values(Api& api, const Asked& asked) {
  Grouping g;
  g.fields = {asked.text("field")};
  Scanned scanned;
  const OpenStores held = stores(api, asked);
  const std::size_t limit = asked.number("limit");
  g.as_stored = asked.flag("as_stored");
  g.most = limit + 1;  // with that of events without the field
  const Query query = asked.query();
  std::vector<FieldId> named = query.where.fields();
  named.push_back(field_id(g.fields[0]));
  api.asked_fields().note(named, system_now());
  const Grouped grouped = group_events(held.stores, query, g, scanned);
  AnswerList values;
  std::uint64_t others = grouped.events - grouped.without;
  std::size_t taken = 0;
  for (const Group& group : grouped.groups) {
    if (group.keys[0].absent() || taken == limit) continue;
    Json value = value_json(group.keys[0]);
    if (!values.room(40 + (value.is_string() ? value.get_ref<const std::string&>().size() : 20))) break;
    values.add({{"value", std::move(value)}, {"count", group.count}});
    others -= group.count;
    ++taken;
  }
  Json root = values.with_cut({{"field", g.fields[0]}, {"values", values.take()}});
  root["distinct"] = grouped.found - (grouped.without != 0);
  root["others"] = others;
  root["without"] = grouped.without;
  root["weighted"] = grouped.weighted;
  root["approximate"] = grouped.approximate;
  root["scanned"] = scanned_json(scanned);
  if (root["values"].empty()) {
    std::vector<FieldId> fields = query.where.fields();
    fields.push_back(field_id(g.fields[0]));
    explain(root["scanned"], held, query, fields);
  }
  return json_answer(root);
}

HttpAnswer count_over_time(Api& api, const Asked& asked) {
  const OpenStores held = stores(api, asked);
  Query query = asked.query();
  Grouping g;
  g.fields = asked.texts("by");
  if (g.fields.size() > 2) throw Refused{api_error(400, "`by` may be given twice at most", "", "by")};
  measure(asked, g);
  g.as_stored = asked.flag("as_stored");
  // Without a range: from the first to the last event that there is.
  if (!asked.given("from") || !asked.given("to")) {
    std::int64_t first = std::numeric_limits<std::int64_t>::max(),
                 last = std::numeric_limits<std::int64_t>::min();
    for (const Store* store : held.stores)
      for (const IndexInfo& info : store->indexes())
        if (info.events && (query.indexes.empty() || std::any_of(query.indexes.begin(), query.indexes.end(),
                                                                 [&](const std::string& glob) {
                                                                   return matches_glob(info.name, glob);
                                                                 })))
          first = std::min(first, info.first), last = std::max(last, info.last);
    if (first <= last && !asked.given("from")) query.from = first;
    if (first <= last && !asked.given("to"))
      query.to = last == std::numeric_limits<std::int64_t>::max() ? last : last + 1;
    if (first > last) query.from = query.to = 0;
  }
  // A range may be longer than 292 years, which is all that 63 bits of nanoseconds hold.
  const std::uint64_t wide =
      query.to > query.from ? static_cast<std::uint64_t>(query.to) - static_cast<std::uint64_t>(query.from)
                            : 0;
  const auto span =
      static_cast<std::int64_t>(std::min<std::uint64_t>(wide, std::numeric_limits<std::int64_t>::max()));
  g.bucket = asked.given("bucket") ? asked.duration("bucket") : nice_bucket(span);
  g.zone = asked.zone("zone");
  if (wide / static_cast<std::uint64_t>(g.bucket) > kMostGroups)
    throw Refused{api_error(400, "that would be more than " + std::to_string(kMostGroups) + " buckets",
                            "take a longer bucket or a shorter time", "bucket")};
  Scanned scanned;
  std::vector<FieldId> named = query.where.fields();
  for (const std::string& field : g.fields) named.push_back(field_id(field));
  if (!g.field.empty()) named.push_back(field_id(g.field));
  api.asked_fields().note(named, system_now());
  Grouped grouped = group_events(held.stores, query, g, scanned);
  Json root{{"bucket_seconds", static_cast<double>(g.bucket) / 1e9},
            {"zone", g.zone.name()},
            {"by", g.fields},
            {"rows", Json::array()}};
  if (span > 0) root["from"] = format_rfc3339(query.from), root["to"] = format_rfc3339(query.to);
  AnswerList rows;
  for (const Group& group : grouped.groups) {
    Json row{{"time", format_rfc3339(group.bucket)}};
    for (std::size_t i = 0; i < g.fields.size(); ++i) row["keys"].push_back(value_json(group.keys[i]));
    row["count"] = group.count;
    if (g.measure != Measure::count) row["value"] = group.value;
    std::size_t bytes = 100;
    for (const Json& key : row.value("keys", Json::array()))
      bytes += key.is_string() ? key.get_ref<const std::string&>().size() : 20;
    if (!rows.room(bytes)) break;
    rows.add(std::move(row));
  }
  root = rows.with_cut(std::move(root));
  root["rows"] = rows.take();
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

Json value_schema() { return {{"type", {"string", "number", "boolean", "null"}}}; }

const CallRegistration kEvents(
    {.method = "GET",
     .path = "/v1/events",
     .name = "listEvents",
     .text = "The newest events that satisfy a condition, newest first; or the oldest. `next`, if there are "
             "more: go on with it as `after`.",
     .parameters =
         with_query({{.name = "limit",
                      .type = OptionType::integer,
                      .fallback = "50",
                      .text = "At most so many; those behind them by `after`.",
                      .most = 10'000},
                     {.name = "oldest", .type = OptionType::boolean, .text = "The oldest, oldest first."},
                     {.name = "after",
                      .text = "Only what comes behind that place in the same order: `next` of an answer. "
                              "None is left out or comes twice, "
                              "however many events have one time."},
                     {.name = "types",
                      .type = OptionType::boolean,
                      .text = "Name the types of the fields in `dingle.types`."},
                     {.name = "ids",
                      .type = OptionType::boolean,
                      .text = "With each event's `dingle.id`, by which its neighbours are found."}}),
     .run = list_events,
     .example =
         R"({"events":[{"timestamp":"2026-11-23T10:00:00Z","body":"192.0.2.7 200","client.address":"192.0.2.7",
       "http.response.status_code":200,"service.name":"ticket-gate","dingle.pipeline":"gate"}],
       "changes":0,"next":"1795428000000000000-2f4a71-4e-1c8-0","scanned":{"matched":6,
       "events_read":1200,"blocks":23,"blocks_left_out":17,"indexes":4,"complete":true}})",
     .answer =
         [] {
           return object_of({{"events", list_of(map_of(is_anything()))},
                             {"changes", is_integer()},
                             {"next", is_text(), false},
                             cut_at_bytes(),
                             {"scanned", scanned_schema()}});
         },
     .is_long = true,
     .asks_stores = true});
const CallRegistration kHeld(
    {.method = "GET",
     .path = "/v1/held",
     .name = "listHeld",
     .text = "Lines that a pipeline which hides values could not take apart, and kept sealed: opened with "
             "the key, newest first. "
             "`closed`: how many were sealed with another key; their `line` is null.",
     .parameters = with_query({{.name = "limit",
                                .type = OptionType::integer,
                                .fallback = "50",
                                .text = "At most so many.",
                                .most = 1000}}),
     .run = held_lines,
     .example =
         R"({"lines":[{"timestamp":"2026-11-23T10:00:00Z","body":"{name:word} {name:word}","line":"ticket kestrel",
       "dingle.unmatched":"expected `GET`","dingle.pipeline":"gate"}],"closed":0,"scanned":{"matched":1,
       "events_read":1200,"blocks":23,"blocks_left_out":17,"indexes":4,"complete":true}})",
     .answer =
         [] {
           return object_of({{"lines", list_of(map_of(is_anything()))},
                             {"closed", is_integer()},
                             cut_at_bytes(),
                             {"scanned", scanned_schema()}});
         },
     .is_long = true,
     .asks_stores = true,
     .scope = Scope::lines});
const CallRegistration kValues(
    {.method = "GET",
     .path = "/v1/values",
     .name = "countValues",
     .text = "The most frequent values of a field.",
     .parameters =
         with_query({{.name = "field", .text = "The field whose values are counted.", .required = true},
                     {.name = "as_stored",
                      .type = OptionType::boolean,
                      .text = "Count each stored event once, whatever it stands for (`dingle.stands_for`)."},
                     {.name = "limit",
                      .type = OptionType::integer,
                      .fallback = "20",
                      .text = "At most so many.",
                      .most = kMostGroups}}),
     .run = top_values,
     .example =
         R"({"field":"ship","values":[{"value":"Fulmar","count":174}],"distinct":7,"others":906,"without":2645,
       "weighted":false,"approximate":false,"scanned":{"matched":3725,"events_read":3725,"blocks":23,"blocks_left_out":0,"indexes":4,
       "complete":true}})",
     .answer =
         [] {
           return object_of(
               {{"field", is_text()},
                {"values", list_of(object_of({{"value", value_schema()}, {"count", is_integer()}}))},
                {"distinct", is_integer()},
                {"others", is_integer()},
                {"without", is_integer()},
                {"weighted", is_boolean()},
                {"approximate", is_boolean()},
                cut_at_bytes(),
                {"scanned", scanned_schema()}});
         },
     .is_long = true,
     .asks_stores = true});
const CallRegistration kTimeline(
    {.method = "GET",
     .path = "/v1/timeline",
     .name = "measureOverTime",
     .text = "Counts or measures over event time.",
     .parameters = with_query(
         {{.name = "bucket",
           .type = OptionType::duration,
           .text = "The length of a bucket: 10s, 5m. Some sixty buckets, if missing.",
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
                                                         {"keys", list_of(value_schema()), false},
                                                         {"count", is_integer()},
                                                         {"value", or_null(is_number()), false}}))},
                             {"from", is_moment(), false},
                             {"to", is_moment(), false},
                             {"weighted", is_boolean()},
                             {"approximate", is_boolean()},
                             cut_at_bytes(),
                             {"scanned", scanned_schema()}});
         },
     .is_long = true,
     .asks_stores = true});
}  // namespace
}  // namespace dingle
