// The calls about sample sets: lines kept under a name, to rehearse with.
#include "agent/rehearsal/rehearsal.h"
#include "core/nearest.h"
#include "core/time/instant.h"
#include "server/calls/call.h"
#include "server/json_answer.h"
#include "server/sample_sets.h"

namespace dingle {
namespace {

Json summary_of(const SampleSet& set) {
  return {{"name", set.name},     {"source", set.source},         {"lines", set.lines.size()},
          {"bytes", set.bytes()}, {"at", format_rfc3339(set.at)}, {"by", set.by}};
}

std::vector<Member> summary_members() {
  return {{"name", is_text()},     {"source", is_text()}, {"lines", is_integer()},
          {"bytes", is_integer()}, {"at", is_moment()},   {"by", is_text()}};
}

HttpAnswer list_samples(Api& api, const Asked&) {
  Json all = Json::array();
  Json problems = Json::array();
  for (const std::string& name : api.samples().names()) {
    std::string problem;
    if (const auto set = api.samples().get(name, problem)) all.push_back(summary_of(*set));
    if (!problem.empty()) problems.push_back(problem);
  }
  return json_answer({{"samples", std::move(all)}, {"problems", std::move(problems)}});
}

HttpAnswer show_sample(Api& api, const Asked& asked) {
  const SampleSet set = sample_set_of(api, asked.part, "name");
  Json answer = summary_of(set);
  answer["lines"] = set.lines;
  return json_answer(answer);
}

HttpAnswer keep_sample(Api& api, const Asked& asked) {
  const auto configuration = api.engine().configuration();
  const std::string& source = asked.text("source");
  must_be_one_of(names_of(configuration->sources), source, "source");
  SampleSet set{asked.text("name"), source, asked.request.who, system_now(), asked.texts("lines")};
  if (!SampleSets::is_name(set.name))
    return api_error(400, "`" + set.name + "` is no name for a set",
                     "letters, digits, dots, dashes; at most 80", "name");
  if (asked.given("text"))
    for (SampleLine& line : lines_of_text(*configuration, source, asked.text("text")))
      set.lines.push_back(std::move(line.text));
  if (!asked.given("lines") && !asked.given("text"))
    for (SampleLine& line : api.engine().newest_lines().of(source, asked.number("newest")))
      set.lines.push_back(std::move(line.text));
  const std::string name = set.name;
  if (const std::string why = api.samples().keep(std::move(set), asked.flag("add"), *configuration);
      !why.empty())
    return api_error(409, why);
  return json_answer(summary_of(sample_set_of(api, name, "name")));
}

HttpAnswer delete_samples(Api& api, const Asked& asked) {
  Json deleted = Json::array();
  for (const std::string& name : asked.texts("names")) sample_set_of(api, name, "names");
  for (const std::string& name : asked.texts("names"))
    if (api.samples().remove(name)) deleted.push_back(name);
  api.samples().look(api.engine());
  return json_answer({{"deleted", deleted}});
}

constexpr const char* kSampleExample =
    R"({"name":"odd","source":"ticket-gate","lines":2,"bytes":93,"at":"2026-11-23T10:00:00Z","by":"owner"})";

const CallRegistration kList(
    {.method = "GET",
     .path = "/v1/samples",
     .name = "listSamples",
     .text = "Lines that are kept under names, to rehearse with.",
     .run = list_samples,
     .example = R"({"samples":[{"name":"odd","source":"ticket-gate","lines":2,"bytes":93,
       "at":"2026-11-23T10:00:00Z","by":"owner"}],"problems":[]})",
     .answer =
         [] {
           return object_of(
               {{"samples", list_of(object_of(summary_members()))}, {"problems", list_of(is_text())}});
         },
     .scope = Scope::lines});
const CallRegistration kShow(
    {.method = "GET",
     .path = "/v1/samples/{name}",
     .name = "showSample",
     .text = "One set, with its lines.",
     .run = show_sample,
     .example = R"({"name":"odd","source":"ticket-gate","lines":["Tern docked"],"bytes":11,
       "at":"2026-11-23T10:00:00Z","by":"owner"})",
     .answer =
         [] {
           auto members = summary_members();
           members[2].schema = list_of(is_text());
           return object_of(members);
         },
     .scope = Scope::lines});
const CallRegistration kKeep(
    {.method = "POST",
     .path = "/v1/samples",
     .name = "keepSample",
     .text = "Keeps lines under a name: those that are sent, or the newest of the source. Of a source whose "
             "lines a "
             "pipeline hides none are kept.",
     .body = {{.name = "name", .text = "Of the set.", .required = true},
              {.name = "source", .text = "Whose lines these are.", .required = true},
              {.name = "lines", .type = OptionType::texts, .text = "The lines."},
              {.name = "text", .text = "A piece of a file, which is cut and joined as the source would."},
              {.name = "newest",
               .type = OptionType::integer,
               .fallback = "500",
               .text = "Without lines: so many of the newest that the source read.",
               .least = 1,
               .most = static_cast<std::int64_t>(SampleSets::kMostLines)},
              {.name = "add",
               .type = OptionType::boolean,
               .fallback = "false",
               .text = "Add them to the set, instead of putting them in its place."}},
     .run = keep_sample,
     .example = kSampleExample,
     .answer = [] { return object_of(summary_members()); },
     .scope = Scope::lines});
const CallRegistration kDeleteSamples(
    {.method = "POST",
     .path = "/v1/samples/delete",
     .name = "deleteSamples",
     .text = "Deletes sets.",
     .body = {{.name = "names", .type = OptionType::texts, .text = "Their names.", .required = true}},
     .run = delete_samples,
     .example = R"({"deleted":["odd"]})",
     .answer =
         [] {
           return object_of({{"deleted", list_of(is_text())}});
         },
     .scope = Scope::lines});

}  // namespace

SampleSet sample_set_of(Api& api, const std::string& name, const char* parameter) {
  std::string problem;
  const auto set = api.samples().get(name, problem);
  if (!problem.empty()) throw Refused{api_error(500, problem)};
  if (!set)
    throw Refused{api_error(404, "there is no sample set `" + name + "`",
                            did_you_mean(name, api.samples().names()), parameter)};
  return *set;
}

}  // namespace dingle
