// The calls that work on lines: templates tried and drafted, the newest lines, those that nothing matched.
#include <algorithm>

#include "agent/trial.h"
#include "core/json_text.h"
#include "core/nearest.h"
#include "core/time/instant.h"
#include "server/calls.h"
#include "server/json_answer.h"
#include "server/parameters.h"

namespace dingle {
namespace {

// The texts of a list in a request's body.
std::vector<std::string> texts_of(const Json& body, const char* name) {
  std::vector<std::string> all;
  if (!body.contains(name)) return all;
  const Json& list = body[name];
  const bool texts =
      list.is_array() && std::all_of(list.begin(), list.end(), [](const Json& j) { return j.is_string(); });
  if (!texts || list.size() > 100'000)
    throw Refused{
        api_error(400, std::string("`") + name + "` must be a list of at most 100000 texts", "", name)};
  for (const Json& text : list) all.push_back(text.get<std::string>());
  return all;
}

}  // namespace

ApiAnswer try_templates(Api& api, const ApiRequest& r) {
  const Json body = body_of(r);
  auto configuration = api.engine().configuration();
  const PatternLibrary& library = *configuration->patterns;
  std::vector<std::shared_ptr<const Template>> all;
  Json problems = Json::array();
  const auto texts = texts_of(body, "templates");
  for (std::size_t i = 0; i < texts.size(); ++i) {
    std::vector<Problem> found;
    auto t = Template::compile(texts[i], library, {.open_end = body.value("open_end", false)}, found);
    for (const Problem& p : found)
      problems.push_back({{"template", i + 1},
                          {"offset", p.offset},
                          {"length", p.length},
                          {"message", p.message},
                          {"hint", p.hint}});
    if (t) all.push_back(t);
  }
  if (texts.empty())
    throw Refused{api_error(400, "`templates` is missing", "send at least one", "templates")};
  if (!problems.empty()) return json_answer({{"problems", problems}});
  const TemplateSet set(all);
  TrialSummary summary;
  Json lines = Json::array();
  std::vector<std::string> tried = texts_of(body, "lines");
  if (body.contains("source")) tried = api.engine().newest_lines().of(body.value("source", ""), 500);
  constexpr std::size_t kMostAdvised = 50;
  for (std::size_t i = 0; i < tried.size(); ++i) {
    Arena arena;
    const TriedLine line =
        try_line(set, library, i + 1, tried[i], system_now(), arena, summary.unmatched < kMostAdvised);
    summary.add(line);
    lines.push_back(json_of(line));
  }
  return json_answer({{"problems", problems}, {"summary", summary.json()}, {"lines", lines}});
}

ApiAnswer draft_lines(Api&, const ApiRequest& r) {
  const std::vector<std::string> lines = texts_of(body_of(r), "lines");
  const std::vector<std::string_view> views(lines.begin(), lines.end());
  return {200, "application/json", dump(json_of(draft_templates(views, system_now()))), nullptr};
}

ApiAnswer newest_lines(Api& api, const ApiRequest& r) {
  const Parameters p(r);
  const std::string source = p.text("source");
  auto configuration = api.engine().configuration();
  if (configuration->source(source) == nullptr) {
    std::vector<std::string> names;
    for (const auto& s : configuration->sources) names.push_back(s.name);
    throw Refused{api_error(404, "there is no source `" + source + "`",
                            did_you_mean(source, names).empty() ? one_of(names) : did_you_mean(source, names),
                            "source")};
  }
  Json all = Json::array();
  for (const std::string& line :
       api.engine().newest_lines().of(source, p.number("limit", 300, NewestLines::kLines)))
    all.push_back(valid_utf8(line));
  return json_answer({{"source", source}, {"lines", all}});
}

ApiAnswer unmatched_lines(Api& api, const ApiRequest& r) {
  const Parameters p(r);
  const std::string pipeline = p.text("pipeline");
  auto configuration = api.engine().configuration();
  std::vector<std::string> names;
  for (const auto& one : configuration->pipelines) names.push_back(one.name);
  if (std::find(names.begin(), names.end(), pipeline) == names.end())
    throw Refused{api_error(
        404, "there is no pipeline `" + pipeline + "`",
        did_you_mean(pipeline, names).empty() ? one_of(names) : did_you_mean(pipeline, names), "pipeline")};
  std::uint64_t others = 0;
  const auto shapes = api.engine().unmatched().shapes(pipeline, &others);
  Json all = Json::array();
  const std::size_t most = p.number("limit", 20, UnmatchedSample::kMostShapes);
  for (std::size_t i = 0; i < std::min(most, shapes.size()); ++i) {
    const UnmatchedShape& s = shapes[i];
    Json row{{"shape", valid_utf8(s.shape)},
             {"count", s.count},
             {"first", format_rfc3339(s.first)},
             {"last", format_rfc3339(s.last)},
             {"reason", valid_utf8(s.reason)},
             {"column", s.column},
             {"lines", Json::array()}};
    for (const std::string& line : s.lines) row["lines"].push_back(valid_utf8(line));
    const std::vector<std::string_view> views(s.lines.begin(), s.lines.end());
    const Draft drafted = s.parsed ? Draft{} : draft_templates(views, system_now());
    row["drafts"] = Json::array();
    if (drafted.json) row["drafts"].push_back("(a JSON object: the step `json`)");
    for (const DraftTemplate& t : drafted.templates) row["drafts"].push_back(valid_utf8(t.text));
    all.push_back(std::move(row));
  }
  return json_answer(
      {{"pipeline", pipeline}, {"shapes", all}, {"shapes_known", shapes.size()}, {"others", others}});
}

}  // namespace dingle
