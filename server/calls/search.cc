// The calls that ask the stores: events, held lines, top values.
#include "store/search.h"

#include <algorithm>

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
}  // namespace
}  // namespace dingle
