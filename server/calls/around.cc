// An event with what stood around it in its file or connection.
#include "store/around.h"

#include <algorithm>

#include "core/nearest.h"
#include "server/calls/asking.h"
#include "server/json_answer.h"

namespace dingle {
namespace {

HttpAnswer list_around(Api& api, const Asked& asked) {
  const std::string& id = asked.text("id");
  const auto key = parse_event_id(id);
  if (!key)
    return api_error(400, "`" + id + "` is no event's id",
                     "32 hexadecimal digits in lower case, as a search with `ids` (--ids) shows them", "id");
  const OpenStores held = stores(api, asked);
  Scanned scanned;
  const Query query = asked.query();
  const bool types = asked.flag("types");
  const auto found = find_around(
      held.stores, query, *key, asked.number("lines"),
      [types](const StoredEvent& e, std::string& json) {
        append_event_json(e, {types, true}, json);
      },
      scanned);
  if (!found)
    return scanned.stopped
               ? api_error(504,
                           "the time was over before all was read, and no event with that id was among it",
                           "narrow the time (`from`, `to`), or give more of it (`within`: 5m)", "id")
               : api_error(404,
                           "no stored event has that id" +
                               std::string(asked.given("from") || asked.given("to") ? " in that time" : ""),
                           "a search with `ids` (--ids) shows them", "id");
  std::string out = "{\"events\":[";
  std::size_t first = 0, bytes = 0;
  for (const FoundEvent& e : found->events) bytes += e.json.size();
  // What is too much goes from both ends, so that the event itself is there.
  std::size_t end = found->events.size();
  while (bytes > AnswerList::kMostBytes && end - first > 1) {
    const bool front = found->at - first >= end - 1 - found->at;
    bytes -= found->events[front ? first : end - 1].json.size();
    front ? ++first : --end;
  }
  for (std::size_t i = first; i < end; ++i) out += (i == first ? "" : ",") + found->events[i].json;
  out += "],\"at\":" + std::to_string(found->at - first) + ",";
  if (end - first < found->events.size())
    out += "\"cut_at_bytes\":" + std::to_string(AnswerList::kMostBytes) + ",";
  out += "\"scanned\":" + dump(scanned_json(scanned)) + "}";
  return {200, "application/json", std::move(out), nullptr};
}

std::vector<OptionSpec> parameters() {
  auto all = with_query({{.name = "id", .text = "The event's `dingle.id`.", .required = true},
                         {.name = "lines",
                          .type = OptionType::integer,
                          .fallback = "5",
                          .text = "At most so many before it, and as many behind it.",
                          .most = kMostNeighbours},
                         {.name = "types",
                          .type = OptionType::boolean,
                          .text = "Name the types of the fields in `dingle.types`."}});
  for (OptionSpec& option : all)
    if (option.name == std::string_view("where"))
      option.text = "Which neighbours are wanted, as a search condition. All, if missing.";
  return all;
}

const CallRegistration kAround(
    {.method = "GET",
     .path = "/v1/events/around",
     .name = "listAround",
     .text = "An event and its neighbours, in the order of their lines: what stood before and behind it in "
             "its file, over its "
             "rotation too, or came through its connection. `at`: its place in `events`.",
     .parameters = parameters(),
     .run = list_around,
     .example =
         R"({"events":[{"timestamp":"2026-11-23T10:00:00Z","body":"Tern leaves","dingle.id":"0b8f4c1d2e3f40516273849506a7b8c9"},
       {"timestamp":"2026-11-23T10:00:01Z","body":"Tern: fog","dingle.id":"1c8f4c1d2e3f40516273849506a7b8c9"}],"at":1,
       "scanned":{"matched":2,"events_read":8192,"blocks":4,"blocks_left_out":0,"indexes":1,"complete":true}})",
     .answer =
         [] {
           return object_of({{"events", list_of(map_of(is_anything()))},
                             {"at", is_integer()},
                             cut_at_bytes(),
                             {"scanned", scanned_schema()}});
         },
     .is_long = true,
     .asks_stores = true});

}  // namespace
}  // namespace dingle
