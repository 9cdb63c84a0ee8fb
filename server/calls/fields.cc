// The call that lists the fields of stored events: their types, shares and examples, who makes them, and who asked for them.
#include <algorithm>

#include "agent/field_makers.h"
#include "core/json_text.h"
#include "core/time/instant.h"
#include "server/calls/asking.h"
#include "server/json_answer.h"

namespace dingle {
namespace {

constexpr std::size_t kLongestExample = 120;  // bytes

Json json_of(const FieldSeen& field,
             const std::map<std::string, std::vector<std::string>, std::less<>>& makers, std::int64_t asked) {
  Json types = Json::object();
  for (const auto& [kind, events] : field.kinds) types[std::string(kind_name(kind))] = events;
  Json examples = Json::array();
  for (const std::string& example : field.examples)
    examples.push_back(
        valid_utf8(example.size() <= kLongestExample ? example : example.substr(0, kLongestExample) + "…"));
  const auto made = makers.find(field.name);
  return {{"field", valid_utf8(field.name)},
          {"events", field.events},
          {"types", std::move(types)},
          {"bytes", field.bytes},
          {"own", field.own},
          {"examples", std::move(examples)},
          {"made_by", made == makers.end() ? std::vector<std::string>() : made->second},
          {"last_asked", asked == 0 ? Json(nullptr) : Json(format_rfc3339(asked))}};
}

HttpAnswer list_fields(Api& api, const Asked& asked) {
  if (asked.given("where"))
    return api_error(400, "fields are counted by whole blocks, without a condition",
                     "dingle weigh counts those of events that satisfy one", "where");
  const OpenStores held = stores(api, asked);
  Scanned scanned;
  FieldsSeen seen = fields_seen(held.stores, asked.query(), scanned);
  std::stable_sort(seen.fields.begin(), seen.fields.end(),
                   [](const FieldSeen& a, const FieldSeen& b) { return a.events > b.events; });
  const auto makers = makers_of_fields(*api.engine().configuration());
  AnswerList fields;
  for (const FieldSeen& field : seen.fields) {
    Json one = json_of(field, makers, api.asked_fields().last(field.name));
    if (!fields.room(200 + field.name.size() + FieldSeen::kExamples * kLongestExample)) break;
    fields.add(std::move(one));
  }
  Json root = fields.with_cut({{"events", seen.events},
                               {"blocks", scanned.blocks},
                               {"more", seen.more},
                               {"complete", scanned.complete()},
                               {"asked_since", format_rfc3339(api.started())}});
  root["fields"] = fields.take();
  root["problems"] = scanned.problems;
  if (held.stores.empty()) root["problems"].push_back("no destination of this server is an index");
  return json_answer(root);
}

const CallRegistration kFields(
    {.method = "GET",
     .path = "/v1/fields",
     .name = "listFields",
     .text = "The fields of stored events, as the directories of their blocks tell: how many events have "
             "each, as which type (`types`: several are a "
             "clash), bytes before compression, some values, which steps of the running configuration make "
             "it, and which question named it last since "
             "`asked_since`. A block that lies partly in the time counts whole.",
     .parameters = query_options(),
     .run = list_fields,
     .example =
         R"json({"events":120000,"blocks":30,"more":false,"complete":true,"asked_since":"2026-11-23T09:00:00Z","fields":[{"field":"ship",
       "events":118000,"types":{"text":118000},"bytes":640000,"own":true,"examples":["Fulmar","Tern"],"made_by":["gate: step 1 (`parse`)"],
       "last_asked":"2026-11-23T10:00:00Z"}],"problems":[]})json",
     .answer =
         [] {
           const Json field = object_of({{"field", is_text()},
                                         {"events", is_integer()},
                                         {"types", map_of(is_integer())},
                                         {"bytes", is_integer()},
                                         {"own", is_boolean()},
                                         {"examples", list_of(is_text())},
                                         {"made_by", list_of(is_text())},
                                         {"last_asked", or_null(is_moment())}});
           return object_of({{"events", is_integer()},
                             {"blocks", is_integer()},
                             {"more", is_boolean()},
                             {"complete", is_boolean()},
                             {"asked_since", is_moment()},
                             {"fields", list_of(field)},
                             cut_at_bytes(),
                             {"problems", list_of(is_text())}});
         },
     .is_long = true,
     .asks_stores = true});

}  // namespace
}  // namespace dingle
