// The calls that work on lines: templates tried and drafted, the newest lines, those that nothing matched.
#include <algorithm>

#include "agent/trial.h"
#include "core/json_text.h"
#include "core/nearest.h"
#include "core/time/instant.h"
#include "server/calls/call.h"
#include "server/json_answer.h"

namespace dingle {
namespace {

// What is known of a shape, with what would match its lines.
Json json_of(const SampledShape& s) {
  Json row{{"shape", valid_utf8(s.shape)},
           {"count", s.count},
           {"first", format_rfc3339(s.first)},
           {"last", format_rfc3339(s.last)},
           {"lines", Json::array()}};
  for (const std::string& line : s.lines) row["lines"].push_back(valid_utf8(line));
  const std::vector<std::string_view> views(s.lines.begin(), s.lines.end());
  // Of lines that are shown by their shape alone nothing can be drafted.
  const bool hidden = std::all_of(views.begin(), views.end(), [&](std::string_view line) {
    return line == s.shape && line.find('{') != std::string_view::npos;
  });
  const Draft drafted = s.parsed || hidden ? Draft{} : draft_templates(views, system_now());
  row["drafts"] = Json::array();
  if (drafted.json) row["drafts"].push_back("(a JSON object: the step `json`)");
  for (const DraftTemplate& t : drafted.templates) row["drafts"].push_back(valid_utf8(t.text));
  return row;
}

HttpAnswer try_templates(Api& api, const Asked& asked) {
  auto configuration = api.engine().configuration();
  const PatternLibrary& library = *configuration->patterns;
  std::vector<std::shared_ptr<const Template>> all;
  Json problems = Json::array();
  const auto& texts = asked.texts("templates");
  for (std::size_t i = 0; i < texts.size(); ++i) {
    std::vector<Problem> found;
    auto t = Template::compile(texts[i], library, {.open_end = asked.flag("open_end")}, found);
    for (const Problem& p : found)
      problems.push_back({{"template", i + 1},
                          {"offset", p.offset},
                          {"length", p.length},
                          {"message", p.message},
                          {"hint", p.hint}});
    if (t) all.push_back(t);
  }
  if (!problems.empty()) return json_answer({{"problems", problems}});
  const TemplateSet set(all);
  TrialSummary summary;
  Json lines = Json::array();
  std::vector<std::string> tried = asked.texts("lines");
  if (asked.given("source")) {
    must_be_one_of(names_of(configuration->sources), asked.text("source"), "source");
    for (SampleLine& line : api.engine().newest_lines().of(asked.text("source"), NewestLines::kLines))
      tried.push_back(std::move(line.text));
  } else if (!asked.given("lines"))
    return api_error(400, "which lines?", "send `lines`, or name a `source`", "lines");
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

HttpAnswer draft_lines(Api&, const Asked& asked) {
  const std::vector<std::string>& lines = asked.texts("lines");
  const std::vector<std::string_view> views(lines.begin(), lines.end());
  return {200, "application/json", dump(json_of(draft_templates(views, system_now()))), nullptr};
}

HttpAnswer newest_lines(Api& api, const Asked& asked) {
  const std::string& source = asked.text("source");
  auto configuration = api.engine().configuration();
  must_be_one_of(names_of(configuration->sources), source, "source");
  AnswerList all;
  for (const SampleLine& line : api.engine().newest_lines().of(source, asked.number("limit")))
    if (all.room(line.text.size() + 3)) all.add(valid_utf8(line.text));
  return json_answer(all.with_cut({{"source", source}, {"lines", all.take()}}));
}

HttpAnswer unmatched_lines(Api& api, const Asked& asked) {
  const std::string& pipeline = asked.text("pipeline");
  auto configuration = api.engine().configuration();
  must_be_one_of(names_of(configuration->pipelines), pipeline, "pipeline");
  std::uint64_t others = 0;
  const auto shapes = api.engine().unmatched().shapes(pipeline, &others);
  Json all = Json::array();
  const std::size_t most = asked.number("limit");
  for (std::size_t i = 0; i < std::min(most, shapes.size()); ++i) {
    const SampledShape& s = shapes[i];
    Json row = json_of(s);
    row["reason"] = valid_utf8(s.reason);
    row["column"] = s.column;
    all.push_back(std::move(row));
  }
  return json_answer(
      {{"pipeline", pipeline}, {"shapes", all}, {"shapes_known", shapes.size()}, {"others", others}});
}

HttpAnswer leftover_lines(Api& api, const Asked& asked) {
  const std::string& only = asked.text("source");
  const auto configuration = api.engine().configuration();
  if (!only.empty()) must_be_one_of(names_of(configuration->sources), only, "source");
  const std::size_t most = asked.number("limit");
  Json sources = Json::array();
  for (const SourceSettings& source : configuration->sources) {
    if (!only.empty() && source.name != only) continue;
    const std::string prefix = "source/" + source.name + "/";
    Json one{{"source", source.name},
             {"leftovers", api.engine().spool().counter(prefix + "leftovers")},
             {"left", api.engine().spool().counter(prefix + "left")},
             {"asked", Json::array()},
             {"shapes", Json::array()}};
    for (const std::size_t node : configuration->flow.reached_from(source.name)) {
      const Flow::Node& n = configuration->flow.nodes[node];
      if (n.leftovers || std::find(n.sources.begin(), n.sources.end(), source.name) != n.sources.end())
        one["asked"].push_back(n.pipeline->name);
    }
    std::uint64_t others = 0;
    const auto shapes = api.engine().leftovers().shapes(source.name, &others);
    for (std::size_t i = 0; i < std::min(most, shapes.size()); ++i)
      one["shapes"].push_back(json_of(shapes[i]));
    one["shapes_known"] = shapes.size();
    one["others"] = others;
    sources.push_back(std::move(one));
  }
  return json_answer({{"sources", sources}});
}

Json shape_schema(bool reasons) {
  std::vector<Member> members{{"shape", is_text()},          {"count", is_integer()},
                              {"first", is_moment()},        {"last", is_moment()},
                              {"lines", list_of(is_text())}, {"drafts", list_of(is_text())}};
  if (reasons) members.push_back({"reason", is_text()}), members.push_back({"column", is_integer()});
  return object_of(members);
}

Json fields_schema() { return map_of(is_anything()); }

const CallRegistration kLeftovers(
    {.method = "GET",
     .path = "/v1/leftovers",
     .name = "listLeftovers",
     .text =
         "Lines that no pipeline took, since the last reload, by source and shape: counts, a sample, and who "
         "was asked.",
     .parameters = {{.name = "source", .text = "Only those of this source."},
                    {.name = "limit",
                     .type = OptionType::integer,
                     .fallback = "20",
                     .text = "At most so many shapes of each source.",
                     .most = ShapeSample::kMostShapes}},
     .run = leftover_lines,
     .example =
         R"({"sources":[{"source":"tide-gauge","leftovers":3,"left":3,"asked":["tide"],"shapes":[{"shape":"# probe N",
       "count":3,"first":"2026-11-23T10:00:00Z","last":"2026-11-23T10:05:00Z","lines":["# probe 4 cleaned"],"drafts":
       ["# probe {number:int} {name:word}"]}],"shapes_known":1,"others":0}]})",
     .answer =
         [] {
           return object_of({{"sources", list_of(object_of({{"source", is_text()},
                                                            {"leftovers", is_integer()},
                                                            {"left", is_integer()},
                                                            {"asked", list_of(is_text())},
                                                            {"shapes", list_of(shape_schema(false))},
                                                            {"shapes_known", is_integer()},
                                                            {"others", is_integer()}}))}});
         },
     .is_long = true,
     .scope = Scope::lines});
const CallRegistration kUnmatched(
    {.method = "GET",
     .path = "/v1/unmatched",
     .name = "listUnmatched",
     .text = "Lines of a pipeline that nothing matched, since the last reload, "
             "grouped by shape: counts, reasons, "
             "a sample, and templates that would match them.",
     .parameters = {{.name = "pipeline", .text = "The pipeline.", .required = true},
                    {.name = "limit",
                     .type = OptionType::integer,
                     .fallback = "20",
                     .text = "At most so many shapes.",
                     .most = ShapeSample::kMostShapes}},
     .run = unmatched_lines,
     .example =
         R"({"pipeline":"gate","shapes":[{"shape":"A OK N ms","count":2,"first":"2026-11-23T10:00:00Z","last":
       "2026-11-23T10:05:00Z","lines":["192.0.2.7 OK 17 ms"],"drafts":["{client.address:ip} OK {duration:duration}"],
       "reason":"column 11: expected a whole number, found \"OK 17 ms\"","column":11}],"shapes_known":1,"others":0})",
     .answer =
         [] {
           return object_of({{"pipeline", is_text()},
                             {"shapes", list_of(shape_schema(true))},
                             {"shapes_known", is_integer()},
                             {"others", is_integer()}});
         },
     .is_long = true,
     .scope = Scope::lines});
const CallRegistration kLines(
    {.method = "GET",
     .path = "/v1/lines",
     .name = "listNewestLines",
     .text = "The newest lines that a source has read, as they were, the oldest first.",
     .parameters = {{.name = "source", .text = "The source.", .required = true},
                    {.name = "limit",
                     .type = OptionType::integer,
                     .fallback = "300",
                     .text = "At most so many.",
                     .most = NewestLines::kLines}},
     .run = newest_lines,
     .example = R"({"source":"ticket-gate","lines":["192.0.2.7 200","192.0.2.8 404"]})",
     .answer =
         [] {
           return object_of({{"source", is_text()}, {"lines", list_of(is_text())}, cut_at_bytes()});
         },
     .scope = Scope::lines});
const CallRegistration kTry(
    {.method = "POST",
     .path = "/v1/try",
     .name = "tryTemplates",
     .text =
         "Tries templates on lines: the fields of each, or where it fails, why, and what would help. Named "
         "patterns are those of the running configuration.",
     .body = {{.name = "templates",
               .type = OptionType::texts,
               .text = "The templates, in the order in which they are tried.",
               .required = true},
              {.name = "lines", .type = OptionType::texts, .text = "The lines."},
              {.name = "source", .text = "Instead of lines: the newest ones of this source."},
              {.name = "open_end",
               .type = OptionType::boolean,
               .text = "The templates need only match the beginnings of the lines."}},
     .run = try_templates,
     .example =
         R"({"problems":[],"summary":{"matched":1,"unmatched":0,"too_expensive":0,"by_template":[{"template":1,
       "lines":1}],"fields":[{"field":"ship","lines":1,"types":{"text":1},"values":[{"value":"Tern","lines":1}],"distinct":1,
       "more":false}]},"lines":[{"line":1,"matched":true,"text":"Tern","template":1,"fields":{"ship":"Tern"}}]})",
     .answer =
         [] {
           return object_of(
               {{"problems", list_of(object_of({{"template", is_integer()},
                                                {"offset", is_integer()},
                                                {"length", is_integer()},
                                                {"message", is_text()},
                                                {"hint", is_text()}}))},
                {"summary",
                 object_of(
                     {{"matched", is_integer()},
                      {"unmatched", is_integer()},
                      {"too_expensive", is_integer()},
                      {"by_template",
                       list_of(object_of({{"template", is_integer()}, {"lines", is_integer()}}))},
                      {"fields", list_of(object_of({{"field", is_text()},
                                                    {"lines", is_integer()},
                                                    {"types", is_anything()},
                                                    {"values", list_of(object_of({{"value", is_anything()},
                                                                                  {"lines", is_integer()}}))},
                                                    {"distinct", is_integer()},
                                                    {"more", is_boolean()}}))}}),
                 false},
                {"lines",
                 list_of(object_of(
                     {{"line", is_integer()},
                      {"matched", is_boolean()},
                      {"text", is_text()},
                      {"template", is_integer()},
                      {"fields", fields_schema(), false},
                      {"column", is_integer(), false},
                      {"expected", list_of(is_text()), false},
                      {"found", is_text(), false},
                      {"reason", is_text(), false},
                      {"too_expensive", is_boolean(), false},
                      {"so_far", fields_schema(), false},
                      {"others",
                       list_of(object_of(
                           {{"pattern", is_text()}, {"text", is_text()}, {"rest_matches", is_boolean()}})),
                       false},
                      {"skipping_helps", is_boolean(), false},
                      {"skipped", is_text(), false},
                      {"advice", is_text(), false}})),
                 false}});
         },
     .is_long = true,
     .scope = Scope::lines});
const CallRegistration kDraft(
    {.method = "POST",
     .path = "/v1/draft",
     .name = "draftTemplates",
     .text = "Proposes templates for sample lines.",
     .body =
         {{.name = "lines", .type = OptionType::texts, .text = "The lines, 5 to 100000.", .required = true}},
     .run = draft_lines,
     .example =
         R"({"lines":5,"joined":0,"unexplained":0,"json":false,"templates":[{"template":"{name:word} {number:int}",
       "lines":5,"share":1.0,"layout":"","example":"Tern 1"}],"heads":[],"picks":[],"time_field":"","notes":[],"unexplained_examples":[],
       "yaml":"steps:\n  - parse:\n      templates:\n        - '{name:word} {number:int}'\n"})",
     .answer =
         [] {
           return object_of(
               {{"lines", is_integer()},
                {"joined", is_integer()},
                {"unexplained", is_integer()},
                {"join", is_text(), false},
                {"json", is_boolean()},
                {"templates", list_of(object_of({{"template", is_text()},
                                                 {"lines", is_integer()},
                                                 {"share", is_number()},
                                                 {"layout", is_anything()},
                                                 {"example", is_text()}}))},
                {"heads", list_of(is_text())},
                {"picks", list_of(object_of({{"template", is_text()}, {"lines", is_integer()}}))},
                {"time_field", is_text()},
                {"notes", list_of(is_text())},
                {"unexplained_examples", list_of(is_text())},
                {"yaml", is_text()}});
         },
     .is_long = true});

}  // namespace
}  // namespace dingle
