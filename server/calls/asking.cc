#include "server/calls/asking.h"

#include "core/condition/meant.h"
#include "core/nearest.h"
#include "server/jobs/jobs.h"
#include "server/json_answer.h"

namespace dingle {

OpenStores stores(Api& api, const Asked& asked) {
  OpenStores held;
  const std::string& destination = asked.text("destination");
  held.owners = api.engine().stores(destination);
  if (held.owners.empty() && !destination.empty()) {
    std::vector<std::string> names;
    for (const auto& d : api.engine().destinations())
      if (d.kind == "index") names.push_back(d.name);
    throw Refused{api_error(404, "there is no destination `" + destination + "` of the kind `index`",
                            did_you_mean(destination, names), "destination")};
  }
  for (const auto& s : held.owners) held.stores.push_back(s.get());
  return held;
}

namespace {

// The destination of the kind `index` that is meant: the one that is asked for, or the only one.
std::string index_meant(Api& api, const Asked& asked) {
  std::vector<std::string> names;
  for (const auto& d : api.engine().configuration()->destinations)
    if (!api.engine().stores(d.name).empty()) names.push_back(d.name);
  const std::string& destination = asked.text("destination");
  if (!destination.empty()) {
    must_be_one_of(names, destination, "destination");
    return destination;
  }
  if (names.size() == 1) return names[0];
  std::string list;
  for (const std::string& name : names) list += (list.empty() ? "`" : ", `") + name + "`";
  throw Refused{api_error(400,
                          names.empty() ? "there is no destination of the kind `index` here"
                                        : "whose events? There are several destinations of the kind `index`",
                          list.empty() ? "" : "`destination`: one of " + list, "destination")};
}

void must_choose(const Asked& asked) {
  if (!asked.given("where") && !asked.given("from") && !asked.given("to") && !asked.given("index") &&
      !asked.flag("all"))
    throw Refused{api_error(400, "which events?", "give `where`, `from`, `to`, `index`, or `all`: true")};
}

std::string words_of_choice(const Asked& asked, const std::string& destination, bool tells_condition) {
  const Query query = asked.chosen();
  std::string what = "of " + destination;
  if (asked.given("where")) what += tells_condition ? " where " + asked.text("where") : ", by a condition";
  if (asked.given("from")) what += " from " + format_rfc3339(query.from);
  if (asked.given("to")) what += " to " + format_rfc3339(query.to);
  for (const std::string& index : asked.texts("index")) what += ", " + index;
  return what;
}

}  // namespace

HttpAnswer start_with_choice(Api& api, const Asked& asked, const char* kind, const char* dry_kind,
                             bool tells_condition) {
  const std::string destination = index_meant(api, asked);
  must_choose(asked);
  const Query query = asked.chosen();
  const bool dry = asked.flag("dry");
  std::string problem;
  const std::int64_t id = api.jobs().add(
      dry ? dry_kind : kind, words_of_choice(asked, destination, tells_condition), asked.request.who,
      {{"destination", destination},
       {"where", asked.text("where")},
       {"from", query.from},
       {"to", query.to},
       {"indexes", asked.texts("index")},
       {"dry", dry}},
      problem);
  return started_job(api, id, problem);
}

StoredChoice choice_in(const Json& request) {
  return {request["destination"], request["where"],   request["from"],
          request["to"],          request["indexes"], request["dry"]};
}

std::vector<OptionSpec> parameters_of_choice(const char* dry) {
  std::vector<OptionSpec> all = choice_options();
  all.push_back({.name = "all", .type = OptionType::boolean, .text = "All events that are stored."});
  all.push_back({.name = "dry", .type = OptionType::boolean, .text = dry});
  return all;
}

std::vector<OptionSpec> with_query(std::vector<OptionSpec> more) {
  more.insert(more.begin(), query_options().begin(), query_options().end());
  return more;
}

Json scanned_schema() {
  return object_of({{"matched", is_integer()},
                    {"events_read", is_integer()},
                    {"blocks", is_integer()},
                    {"blocks_left_out", is_integer()},
                    {"indexes", is_integer()},
                    {"complete", is_boolean()},
                    {"damaged", is_integer(), false},
                    {"problems", list_of(is_text()), false},
                    {"notes", list_of(is_text()), false}});
}

Json value_json(const Value& v) {
  switch (v.kind()) {
    case Kind::absent: return nullptr;
    case Kind::integer: return v.as_integer();
    case Kind::decimal: return v.as_decimal();
    case Kind::boolean: return v.as_boolean();
    default: return v.to_string();
  }
}
Json value_schema() { return {{"type", {"string", "number", "boolean", "null"}}}; }

Json scanned_json(const Scanned& s) {
  Json j{{"matched", s.matched},
         {"events_read", s.events},
         {"blocks", s.blocks},
         {"blocks_left_out", s.blocks_left_out},
         {"indexes", s.indexes}};
  j["complete"] = s.complete();
  if (s.damaged != 0) j["damaged"] = s.damaged;
  std::vector<std::string> problems = s.problems;
  if (s.stopped)
    problems.push_back("the time was over before all was read: what is told is of the newest " +
                       std::to_string(s.events) +
                       " events; narrow the time (--from), or give more of it (--within 5m)");
  if (!problems.empty()) j["problems"] = problems;
  return j;
}

Json reasons_of_nothing(Engine& engine, const std::string& destination, const Query& query) {
  OpenStores held;
  held.owners = engine.stores(destination);
  for (const auto& s : held.owners) held.stores.push_back(s.get());
  Json told = Json::object();
  explain(told, held, query, query.where.fields());
  return told.value("notes", Json::array());
}

void explain(Json& scanned, const OpenStores& held, const Query& query, const std::vector<FieldId>& fields) {
  const UnknownFields u = unknown_fields(held.stores, query, fields);
  if (u.blocks == 0) {
    scanned["notes"].push_back("there is no event in that time, in those indexes");
    return;
  }
  for (const std::string& name : u.unknown) {
    const std::string meant = text_meant(query.where.text(), name);
    std::string near = meant.empty() ? did_you_mean(name, u.known) : meant;
    for (const std::string& known : u.known)
      if (near.empty() && known.ends_with("." + name)) near = "did you mean `" + known + "`?";
    scanned["notes"].push_back("no event in that time has a field `" + name + "`" +
                               (near.empty() ? "" : "; " + near));
  }
}

}  // namespace dingle
