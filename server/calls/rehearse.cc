// The call that puts sample lines through pipelines, and shows every step.
#include <algorithm>

#include "agent/rehearsal/rehearsal.h"
#include "core/json_text.h"
#include "core/nearest.h"
#include "core/time/instant.h"
#include "server/calls/call.h"
#include "server/configuration_file.h"
#include "server/json_answer.h"
#include "server/sample_sets.h"

namespace dingle {
namespace {

constexpr std::chrono::minutes kRehearsalPatience{1};

struct CalledFor {
  std::vector<SampleLine> lines;
  const char* from = "sent";
  std::string why_empty;
};

std::string quoted(const std::string& text) {
  std::string sql = "'";
  for (const char c : text) sql += c == '\'' ? "''" : std::string(1, c);
  return sql + "'";
}

// Stored events of the source, as the lines that they were: body, and what is known of where they came from.
CalledFor stored(Api& api, const Asked& asked, const std::string& source) {
  CalledFor sample;
  sample.from = "stored";
  const std::string where = asked.text("where");
  if (!where.empty()) asked.where();  // its own mistakes, with their places
  auto condition =
      Condition::parse((where.empty() ? "" : "(" + where + ") and ") + "dingle.source = " + quoted(source));
  if (!condition)
    throw Refused{api_error(400, condition.problem().message, condition.problem().hint, "where")};
  const auto owners = api.engine().stores("");
  std::vector<const Store*> stores;
  for (const auto& owner : owners) stores.push_back(owner.get());
  Query query{std::move(*condition)};
  query.from = asked.moment("from", query.from);
  query.to = asked.moment("to", query.to);
  query.until = std::chrono::steady_clock::now() + std::chrono::seconds(20);
  query.left = asked.request.left;
  Scanned scanned;
  const std::function<void(const StoredEvent&, std::string&)> write = [](const StoredEvent& event,
                                                                         std::string& to) {
    Json line{{"body", valid_utf8(event.body)}, {"more", Json::object()}};
    for (const Field& f : event.more)
      if (const std::string_view name = field_name(f.name); !name.starts_with("dingle."))
        line["more"][std::string(name)] = valid_utf8(f.value.to_string());
    to = dump(line);
  };
  auto found = find_events(stores, query, asked.number("newest"), write, scanned, Rehearsal::kMostBytes);
  std::reverse(found.begin(), found.end());
  for (const FoundEvent& event : found) {
    const Json line = parse_json(event.json);
    auto resource = std::make_shared<Resource>();
    for (const auto& [name, value] : line["more"].items()) resource->add(name, value.get<std::string>());
    sample.lines.push_back({line["body"].get<std::string>(), std::move(resource)});
  }
  if (found.empty())
    sample.why_empty = stores.empty()
                           ? "no destination of this server is an index"
                           : "of the source `" + source + "` no stored event " +
                                 (where.empty() ? "is in that time" : "in that time fits the condition");
  return sample;
}

CalledFor sample_of(Api& api, const Configuration& configuration, const Asked& asked,
                    const std::string& source) {
  if (asked.given("sample")) {
    CalledFor sample{{}, "kept", ""};
    for (std::string& line : sample_set_of(api, asked.text("sample"), "sample").lines)
      sample.lines.push_back({std::move(line)});
    return sample;
  }
  if (asked.given("lines")) {
    CalledFor sample;
    for (const std::string& line : asked.texts("lines")) sample.lines.push_back({line});
    if (sample.lines.empty()) sample.why_empty = "no lines were sent";
    return sample;
  }
  if (asked.given("text")) {
    CalledFor sample{lines_of_text(configuration, source, asked.text("text")), "sent", ""};
    if (sample.lines.empty()) sample.why_empty = "the text has no lines";
    return sample;
  }
  if (asked.given("where") || asked.given("from") || asked.given("to")) return stored(api, asked, source);
  CalledFor sample{api.engine().newest_lines().of(source, asked.number("newest")), "newest", ""};
  if (!sample.lines.empty()) return sample;
  sample = stored(api, asked, source);
  if (sample.lines.empty())
    sample.why_empty =
        "the source `" + source + "` has read nothing since the start, and nothing of it is stored";
  return sample;
}

HttpAnswer rehearse(Api& api, const Asked& asked) {
  const auto running = api.engine().configuration();
  auto configuration = to_be_tried(running);
  Json findings_told = Json::array();
  if (asked.given("configuration")) {
    Findings findings(asked.text("configuration"));
    configuration = read_sent_configuration(asked.text("configuration"), findings, *running);
    findings_told = ConfigurationFile::findings_json(findings.all());
    if (!configuration) return json_answer({{"findings", findings_told}});
  }
  const std::string& pipeline = asked.text("pipeline");
  if (!pipeline.empty()) must_be_one_of(names_of(configuration->pipelines), pipeline, "pipeline");
  std::string source = asked.given("sample") && !asked.given("source")
                           ? sample_set_of(api, asked.text("sample"), "sample").source
                           : asked.text("source");
  if (!source.empty())
    must_be_one_of(names_of(configuration->sources), source, "source");
  else if (pipeline.empty())
    return api_error(400, "which lines, or which pipeline?", "name a `source`, or a `pipeline`", "source");
  else
    source = source_for(*configuration, pipeline);
  const CalledFor sample = sample_of(api, *configuration, asked, source);
  std::size_t bytes = 0;
  for (const SampleLine& line : sample.lines) bytes += line.text.size();
  if (sample.lines.size() > Rehearsal::kMostLines || bytes > Rehearsal::kMostBytes)
    return api_error(400, "that are too many lines", "at most 100000, and 64 MiB", "lines");
  std::vector<std::unique_ptr<StepMemory>> memories;
  if (asked.text("memory") == "copy") memories = api.engine().copies_of_memories(*configuration);
  const auto until = std::chrono::steady_clock::now() + kRehearsalPatience;
  const auto ends = [&]() -> std::string {
    if (asked.request.has_left()) return "the caller has gone";
    return std::chrono::steady_clock::now() < until ? "" : "it takes longer than a minute";
  };
  std::optional<Rehearsal> rehearsal;
  try {
    rehearsal.emplace(Rehearsal::Asked{*configuration, source, pipeline, sample.lines, system_now(),
                                       std::move(memories), ends});
  } catch (const Rehearsal::Ended& ended) {
    return api_error(422, std::string("the rehearsal was ended: ") + ended.what(),
                     "send fewer lines, or one pipeline");
  }
  Json answer = json_of(*rehearsal, asked.number("limit"));
  answer["from"] = sample.from;
  if (sample.lines.empty()) answer["why_empty"] = sample.why_empty;
  answer["findings"] = std::move(findings_told);
  return json_answer(answer);
}

Json step_change_schema() {
  return object_of({{"field", is_text()},
                    {"before", is_anything(), false},
                    {"after", is_anything(), false},
                    {"type", is_text(), false},
                    {"from", is_integer(), false},
                    {"length", is_integer(), false}});
}

Json rehearsed_event_schema() {
  return object_of(
      {{"outcome", {{"enum", {"failed", "dropped", "merged", "unrouted", "goes_on"}}}},
       {"line", is_integer(), false},
       {"text", is_text(), false},
       {"made_by", is_integer(), false},
       {"at_end", is_boolean(), false},
       {"by", is_integer(), false},
       {"reason", is_text(), false},
       {"column", is_integer(), false},
       {"steps", list_of(object_of({{"step", is_integer()},
                                    {"passed_by", is_boolean()},
                                    {"failed", is_boolean()},
                                    {"changes", list_of(step_change_schema())}}))},
       {"timestamp", is_moment(), false},
       {"body", is_text(), false},
       {"fields",
        list_of(object_of({{"field", is_text()},
                           {"type", is_text()},
                           {"value", is_anything()},
                           {"from", is_integer(), false},
                           {"length", is_integer(), false}})),
        false},
       {"to", list_of(object_of({{"destination", is_text()}, {"name", is_text(), false}})), false}});
}

Json rehearsed_step_schema() {
  return object_of(
      {{"step", is_integer()},
       {"kind", is_text()},
       {"name", is_text(), false},
       {"off", is_boolean(), false},
       {"where", is_text(), false},
       {"in", is_integer()},
       {"out", is_integer()},
       {"created", is_integer()},
       {"merged", is_integer()},
       {"dropped", is_integer()},
       {"failed", is_integer()},
       {"missed", is_integer()},
       {"gave_up", is_integer()},
       {"changed", is_integer()},
       {"bytes_in", is_integer()},
       {"bytes_out", is_integer()},
       {"nanoseconds", is_integer()},
       {"templates", list_of(object_of({{"template", is_text()}, {"matched", is_integer()}}))},
       {"fields", list_of(object_of(
                      {{"field", is_text()}, {"events", is_integer()}, {"types", map_of(is_integer())}}))}});
}

Json rehearsed_pipeline_schema() {
  return object_of(
      {{"pipeline", is_text()},
       {"unreached", is_text(), false},
       {"where", is_text(), false},
       {"unless", is_text(), false},
       {"in", is_integer()},
       {"bytes_in", is_integer()},
       {"outcomes", map_of(is_integer())},
       {"steps", list_of(rehearsed_step_schema())},
       {"to", list_of(object_of({{"destination", is_text()},
                                 {"events", is_integer()},
                                 {"bytes", is_integer()},
                                 {"names", map_of(is_integer())}}))},
       {"not_taken",
        object_of({{"count", is_integer()},
                   {"why", map_of(is_integer())},
                   {"lines",
                    list_of(object_of({{"line", is_integer()}, {"text", is_text()}, {"why", is_text()}}))}})},
       {"events", list_of(rehearsed_event_schema())}});
}

const CallRegistration kRehearse(
    {.method = "POST",
     .path = "/v1/rehearse",
     .name = "rehearse",
     .text = "Puts sample lines through pipelines as they would go in earnest, and shows every step: what it "
             "added, changed "
             "and took away, where each value stands in the line as it came (bytes), what was dropped or "
             "failed, by which "
             "step and why. Nothing is sent or counted. What steps with memory hold at the "
             "end comes out, "
             "marked `at_end`.",
     .body = {{.name = "pipeline",
               .text = "Only what this pipeline does; without it all that the lines reach, and why others "
                       "do not take them."},
              {.name = "configuration",
               .text = "A configuration's text (YAML), instead of the running one. What is wrong with it is "
                       "in `findings`."},
              {.name = "source",
               .text = "Whose lines these are; without it a source that the pipeline takes from."},
              {.name = "lines",
               .type = OptionType::texts,
               .text = "The lines. Without them the newest ones of the source."},
              {.name = "text",
               .text = "Instead of lines: a piece of a file, which is cut and joined as the source would."},
              {.name = "sample", .text = "Instead of lines: those of a sample set (`/v1/samples`)."},
              {.name = "where",
               .type = OptionType::condition,
               .text = "Instead of lines: the bodies of stored events of the source for which this holds."},
              {.name = "from", .type = OptionType::moment, .text = "Stored events from this time on."},
              {.name = "to", .type = OptionType::moment, .text = "Stored events before this time."},
              {.name = "newest",
               .type = OptionType::integer,
               .fallback = "500",
               .text = "So many of the newest lines, or stored events.",
               .least = 1,
               .most = static_cast<std::int64_t>(Rehearsal::kMostLines)},
              {.name = "memory",
               .type = OptionType::choice,
               .fallback = "empty",
               .text = "What steps with memory begin with: nothing, or a copy of what they hold now, where "
                       "they mean the "
                       "same.",
               .choices = {"empty", "copy"}},
              {.name = "limit",
               .type = OptionType::integer,
               .fallback = "20",
               .text = "At most so many events of each outcome are shown; counts are of all.",
               .most = static_cast<std::int64_t>(Rehearsal::kMostLines)}},
     .run = rehearse,
     .example =
         R"({"configuration":"77ab03e2","source":"tide-gauge","lines":1,"leftovers":0,"pipelines":[{"pipeline":"tide","in":1,
       "bytes_in":7,"outcomes":{"failed":0,"dropped":0,"merged":0,"unrouted":0,"goes_on":1},"steps":[{"step":1,"kind":"parse",
       "in":1,"out":1,"created":0,"merged":0,"dropped":0,"failed":0,"missed":0,"gave_up":0,"changed":1,"bytes_in":7,"bytes_out":15,"nanoseconds":900,
       "templates":[{"template":"Tern {m:int}","matched":1}],"fields":[{"field":"m","events":1,"types":{"int":1}}]}],
       "to":[{"destination":"operations","events":1,"bytes":15,"names":{"tide-2026-11-23":1}}],
       "not_taken":{"count":0,"why":{},"lines":[]},"events":[{"outcome":"goes_on","line":1,"text":"Tern 42","steps":[{"step":1,
       "passed_by":false,"failed":false,"changes":[{"field":"m","after":42,"type":"int","from":5,"length":2}]}],
       "timestamp":"2026-11-23T10:00:00Z","body":"Tern 42","fields":[{"field":"m","type":"int","value":42,"from":5,"length":2}],
       "to":[{"destination":"operations","name":"tide-2026-11-23"}]}]}],"from":"sent","findings":[]})",
     .answer =
         [] {
           return object_of({{"configuration", is_text(), false},
                             {"source", is_text(), false},
                             {"lines", is_integer(), false},
                             {"leftovers", is_integer(), false},
                             {"pipelines", list_of(rehearsed_pipeline_schema()), false},
                             {"from", {{"enum", {"sent", "newest", "stored", "kept"}}}, false},
                             {"why_empty", is_text(), false},
                             cut_at_bytes(),
                             {"findings", ConfigurationFile::findings_schema()}});
         },
     .is_long = true,
     .scope = Scope::lines});

}  // namespace
}  // namespace dingle
