// The calls about the configuration and its versions.
#include <charconv>

#include "core/time/instant.h"
#include "server/calls/call.h"
#include "server/configuration_file.h"
#include "server/json_answer.h"

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

// As they say, and who they are.
ConfigurationFile::Said said(const Asked& asked) {
  constexpr std::size_t kMost = 1000;
  for (const char* name : {"who", "note"})
    if (asked.text(name).size() > kMost)
      throw Refused{api_error(400, std::string("`") + name + "` has more than 1000 bytes", "", name)};
  ConfigurationFile::Said all{asked.given("who") ? asked.text("who") : "API", asked.text("note")};
  if (asked.request.who != kOwner) all.who += " (" + asked.request.who + ")";
  return all;
}

void fine(const std::string& problem) {
  if (!problem.empty()) throw Refused{api_error(500, problem)};
}

HttpAnswer reload_configuration(Api& api, const Asked& asked) { return api.file().reload(said(asked)); }

HttpAnswer list_versions(Api& api, const Asked& asked) {
  std::string problem;
  AnswerList list;
  for (const Version& v : api.file().versions().list(asked.number("limit"), problem))
    if (list.room(500 + v.note.size() + v.why.size() + v.findings.size())) list.add(json_of(v));
  fine(problem);
  const auto current = api.file().versions().current(problem);
  fine(problem);
  const std::int64_t removed = api.file().versions().removed(problem);
  fine(problem);
  return json_answer(list.with_cut({{"versions", list.take()},
                                    {"running", current ? Json(current->number) : Json()},
                                    {"removed", removed}}));
}

HttpAnswer show_version(Api& api, const Asked& asked) {
  const std::string& given = asked.part;
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

HttpAnswer return_to_version(Api& api, const Asked& asked) {
  return api.file().return_to(asked.options.number("version"), said(asked),
                              api.may(asked.request, Scope::lines));
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

const std::vector<OptionSpec> kSaid{
    {.name = "who", .text = "Who wants it, as it stands in the list of versions."},
    {.name = "note", .text = "What for."}};

const CallRegistration kReload(
    {.method = "POST",
     .path = "/v1/reload",
     .name = "reloadConfiguration",
     .text = "Reads the configuration file again and takes it, if it is sound.",
     .body = kSaid,
     .run = reload_configuration,
     .example = R"({"findings":[],"file":"/etc/dingle/dingle.yaml","version":17,"configuration":"77ab03e2"})",
     .answer = reloaded_schema,
     .is_long = true,
     .needs_body = false,
     .scope = Scope::edit});
const CallRegistration kListVersions(
    {.method = "GET",
     .path = "/v1/versions",
     .name = "listVersions",
     .text = "The configurations that ran and those that were refused, the newest first.",
     .parameters = {{.name = "limit",
                     .type = OptionType::integer,
                     .fallback = "50",
                     .text = "At most so many.",
                     .most = 10'000}},
     .run = list_versions,
     .example =
         R"({"versions":[{"version":16,"parent":15,"configuration":"b0e8f903","outcome":"ran","at":"2026-11-23T10:00:00Z","times":1,
       "who":"anna@quay-4","note":"a second berth","file":"/etc/dingle/dingle.yaml","why":"","findings":[]}],"running":16,"removed":0})",
     .answer =
         [] {
           return object_of({{"versions", list_of(object_of(version_members()))},
                             {"running", or_null(is_integer())},
                             {"removed", is_integer()},
                             cut_at_bytes()});
         },
     .is_long = true});
const CallRegistration kShowVersion(
    {.method = "GET",
     .path = "/v1/versions/{version}",
     .name = "showVersion",
     .text = "One version, with its text and findings.",
     .run = show_version,
     .example =
         R"({"version":16,"parent":15,"configuration":"b0e8f903","outcome":"ran","at":"2026-11-23T10:00:00Z","times":1,
       "who":"anna@quay-4","note":"a second berth","file":"/etc/dingle/dingle.yaml","why":"","findings":[],"text":"version: 1\n"})",
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
     .name = "returnToVersion",
     .text =
         "Writes the text of a former version into the configuration file, and takes it: only if what stands "
         "there is what runs.",
     .body = {{.name = "version", .type = OptionType::integer, .text = "Its number.", .required = true},
              kSaid[0],
              kSaid[1]},
     .run = return_to_version,
     .example = R"({"findings":[],"file":"/etc/dingle/dingle.yaml","version":17,"configuration":"77ab03e2"})",
     .answer = reloaded_schema,
     .is_long = true,
     .scope = Scope::edit});

}  // namespace
}  // namespace dingle
