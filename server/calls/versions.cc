// The calls about the configuration and its versions.
#include <charconv>

#include "core/time/instant.h"
#include "server/calls/call.h"
#include "server/configuration_file.h"
#include "server/json_answer.h"
#include "server/parameters.h"

namespace dingle {
namespace {

Json json_of(const Version& v) {
  Json j{{"version", v.number},
         {"parent", v.parent},
         {"configuration", v.hash},
         {"outcome", v.ran ? "ran" : "refused"},
         {"at", format_rfc3339(v.at)},
         {"times", v.times},
         {"who", v.who},
         {"note", v.note},
         {"file", v.file},
         {"why", v.why},
         {"findings", Json::array()}};
  if (Json findings = parse_json(v.findings); findings.is_array()) j["findings"] = std::move(findings);
  return j;
}

// As they say: `who` and `note` of the body, if there is one.
ConfigurationFile::Said said(const HttpRequest& r, Json* body = nullptr) {
  constexpr std::size_t kMost = 1000;
  Json given = Json::object();
  if (!r.body.empty()) given = body_of(r);
  const auto text = [&](const char* name) {
    if (!given.contains(name)) return std::string();
    if (!given[name].is_string())
      throw Refused{api_error(400, std::string("`") + name + "` must be a text", "", name)};
    const std::string value = given[name];
    if (value.size() > kMost)
      throw Refused{api_error(400, std::string("`") + name + "` has more than 1000 bytes", "", name)};
    return value;
  };
  ConfigurationFile::Said all{text("who"), text("note")};
  if (all.who.empty()) all.who = "API";
  if (r.who != kOwner) all.who += " (" + r.who + ")";
  if (body) *body = std::move(given);
  return all;
}

void fine(const std::string& problem) {
  if (!problem.empty()) throw Refused{api_error(500, problem)};
}

HttpAnswer reload_configuration(Api& api, const HttpRequest& r) { return api.file().reload(said(r)); }

HttpAnswer list_versions(Api& api, const HttpRequest& r) {
  std::string problem;
  Json list = Json::array();
  for (const Version& v : api.file().versions().list(Parameters(r).number("limit", 50, 10'000), problem))
    list.push_back(json_of(v));
  fine(problem);
  const auto current = api.file().versions().current(problem);
  fine(problem);
  const std::int64_t removed = api.file().versions().removed(problem);
  fine(problem);
  return json_answer(
      {{"versions", list}, {"running", current ? Json(current->number) : Json()}, {"removed", removed}});
}

HttpAnswer show_version(Api& api, const HttpRequest& r) {
  const std::string given = r.path.substr(r.path.rfind('/') + 1);
  std::int64_t number = 0;
  const auto [end, error] = std::from_chars(given.data(), given.data() + given.size(), number);
  if (error != std::errc() || end != given.data() + given.size() || number < 1)
    throw Refused{
        api_error(400, "`" + given + "` is no version's number", "dingle versions lists them", "version")};
  std::string problem;
  const auto version = api.file().versions().get(number, problem);
  fine(problem);
  if (!version)
    throw Refused{api_error(404, "there is no version " + given, "dingle versions lists them", "version")};
  Json j = json_of(*version);
  j["text"] = version->text;
  return json_answer(j);
}

HttpAnswer return_to_version(Api& api, const HttpRequest& r) {
  Json body;
  const auto by = said(r, &body);
  if (!body.contains("version") || !body["version"].is_number_integer())
    throw Refused{api_error(400, "which version?", "give `version`, a whole number", "version")};
  return api.file().return_to(body["version"], by);
}

std::vector<Member> version_members() {
  return {{"version", is_integer()},
          {"parent", is_integer()},
          {"configuration", is_text()},
          {"outcome", {{"enum", {"ran", "refused"}}}},
          {"at", is_moment()},
          {"times", is_integer()},
          {"who", is_text()},
          {"note", is_text()},
          {"file", is_text()},
          {"why", is_text()},
          {"findings", ConfigurationFile::findings_schema()}};
}

Json reloaded_schema() {
  return object_of({{"findings", ConfigurationFile::findings_schema()},
                    {"file", is_text()},
                    {"version", is_integer()},
                    {"configuration", is_text()}});
}

const std::vector<ParameterSpec> kSaid{
    {"who", "string", "Who wants it, as it stands in the list of versions."},
    {"note", "string", "What for."}};

const CallRegistration kReload({.method = "POST",
                                .path = "/v1/reload",
                                .text = "Reads the configuration file again and takes it, if it is sound.",
                                .body = kSaid,
                                .run = reload_configuration,
                                .answer = reloaded_schema,
                                .is_long = true,
                                .needs_body = false,
                                .scope = Scope::edit});
const CallRegistration kListVersions(
    {.method = "GET",
     .path = "/v1/versions",
     .text = "The configurations that ran and those that were refused, the newest first.",
     .parameters = {{"limit", "integer", "At most so many; 50 if missing."}},
     .run = list_versions,
     .answer =
         [] {
           return object_of({{"versions", list_of(object_of(version_members()))},
                             {"running", or_null(is_integer())},
                             {"removed", is_integer()}});
         },
     .is_long = true});
const CallRegistration kShowVersion({.method = "GET",
                                     .path = "/v1/versions/{version}",
                                     .text = "One version, with its text and findings.",
                                     .run = show_version,
                                     .answer =
                                         [] {
                                           auto members = version_members();
                                           members.push_back({"text", is_text()});
                                           return object_of(members);
                                         },
                                     .is_long = true});
const CallRegistration kReturn(
    {.method = "POST",
     .path = "/v1/return",
     .text =
         "Writes the text of a former version into the configuration file, and takes it: only if what stands "
         "there is what runs.",
     .body = {{"version", "integer", "Its number."}, kSaid[0], kSaid[1]},
     .run = return_to_version,
     .answer = reloaded_schema,
     .is_long = true,
     .scope = Scope::edit});

}  // namespace
}  // namespace dingle
