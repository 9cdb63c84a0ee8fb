// dingle rehearse: sample lines through pipelines, every step shown, nothing sent.
#include <iostream>
#include <map>

#include "agent/rehearsal/rehearsal.h"
#include "client/compared.h"
#include "client/connection.h"
#include "client/rehearsal.h"
#include "client/table.h"
#include "client/times.h"
#include "core/nearest.h"
#include "core/time/instant.h"

namespace dingle {
namespace {

constexpr std::size_t kMostForPeople = 5000;  // events of each outcome that are grouped by what happened

struct RehearseOptions {
  std::string pipeline, file, configuration, against, source, sample, where, from, to;
  std::vector<std::string> lines;
  std::size_t newest = 500, show = 3;
  bool remember = false;
  // Lines are at hand: with a configuration nothing else is needed.
  bool has_lines() const { return !file.empty() || !lines.empty(); }
};

bool is_one_of(const std::vector<std::string>& names, const std::string& name, const char* what) {
  if (std::find(names.begin(), names.end(), name) != names.end()) return true;
  const std::string near = did_you_mean(name, names);
  std::cerr << "dingle: there is no " << what << " `" << name << "`; "
            << (near.empty() ? one_of(names) : near) << "\n";
  return false;
}

template <class All>
std::vector<std::string> all_names(const All& all) {
  std::vector<std::string> names;
  for (const auto& one : all) names.push_back(one.name);
  return names;
}

// Without a server. False with a message on standard error.
bool rehearse_here(const Client& client, const RehearseOptions& o, const std::string& yaml,
                   const std::string& text, std::size_t most, Json& answer) {
  Findings findings(yaml);
  const auto configuration = read_configuration(yaml, findings);
  if (!configuration) {
    for (const Finding& f : findings.all())
      std::cerr << render(f, o.configuration, yaml, painter(client), client.width);
    return false;
  }
  if (!o.pipeline.empty() && !is_one_of(all_names(configuration->pipelines), o.pipeline, "pipeline"))
    return false;
  if (!o.source.empty() && !is_one_of(all_names(configuration->sources), o.source, "source")) return false;
  const std::string source = o.source.empty() ? source_for(*configuration, o.pipeline) : o.source;
  std::vector<SampleLine> lines = lines_of_text(*configuration, source, text);
  for (const std::string& line : o.lines) lines.push_back({line});
  if (lines.size() > Rehearsal::kMostLines) {
    std::cerr << "dingle: that are too many lines; at most " << Rehearsal::kMostLines << "\n";
    return false;
  }
  const Rehearsal rehearsal({*configuration, source, o.pipeline, lines, system_now()});
  answer = json_of(rehearsal, most);
  answer["from"] = "sent";
  if (lines.empty()) answer["why_empty"] = "there are no lines in it";
  return true;
}

bool rehearse_there(const Client& client, const RehearseOptions& o, const std::string& yaml,
                    const std::string& text, std::size_t most, Json& answer, int& status) {
  Json asked{{"limit", most}};
  const auto add = [&](const char* name, const std::string& value) {
    if (!value.empty()) asked[name] = value;
  };
  add("pipeline", o.pipeline);
  add("source", o.source);
  add("configuration", yaml);
  add("sample", o.sample);
  add("where", o.where);
  add("from", asked_time(client, o.from));
  add("to", asked_time(client, o.to));
  if (o.remember) asked["memory"] = "copy";
  if (!o.lines.empty())
    asked["lines"] = o.lines;
  else if (!o.file.empty())
    asked["text"] = text;
  else if (o.sample.empty())
    asked["newest"] = o.newest;
  const Answer answered = call(client, "POST", "/v1/rehearse", {}, true, dump(asked));
  status = answered.status >= 400 && answered.status < 500 ? kUsage : kFoundProblems;
  if (!answered.ok) return false;
  answer = answered.body;
  if (answer.contains("pipelines")) return true;
  for (const Json& f : answer["findings"])
    std::cerr << o.configuration << ":" << f["line"] << ":" << f["column"] << ": "
              << f["message"].get<std::string>() << "\n";
  return false;
}

// The lines of an answer, in their order.
std::vector<std::string> lines_of(const Json& answer) {
  std::map<std::int64_t, std::string> lines;
  const auto add = [&](const Json& one) {
    if (one.contains("line") && one.contains("text"))
      lines.emplace(one["line"].get<std::int64_t>(), one["text"]);
  };
  for (const Json& pipeline : answer["pipelines"]) {
    for (const Json& event : pipeline["events"]) add(event);
    for (const Json& line : pipeline["not_taken"]["lines"]) add(line);
  }
  std::vector<std::string> all;
  for (auto& [number, text] : lines) all.push_back(std::move(text));
  return all;
}

// The same lines through another configuration: that of a file, or what runs.
int run_against(const Client& client, RehearseOptions o, const std::string& yaml, const std::string& text) {
  std::string other;
  if (o.against != "running" && !read_input(o.against, other)) return kFoundProblems;
  int status = kFoundProblems;
  const auto rehearse = [&](const std::string& configuration, const std::string& name, Json& answer) {
    RehearseOptions one = o;
    one.configuration = name;
    return !configuration.empty() && o.has_lines() && !o.remember
               ? rehearse_here(client, one, configuration, text, kMostForPeople, answer)
               : rehearse_there(client, one, configuration, text, kMostForPeople, answer, status);
  };
  Json before, after;
  if (!rehearse(other, o.against, before)) return status;
  if (!o.has_lines()) {  // others may have come meanwhile: those that were asked for go both ways
    o.lines = lines_of(before);
    o.where = o.from = o.to = o.sample = "";
    if (!o.lines.empty() && !rehearse(other, o.against, before)) return status;
  }
  if (before.contains("why_empty")) {
    std::cout << "no lines: " << before["why_empty"].get<std::string>() << "\n";
    return kFoundProblems;
  }
  if (!rehearse(yaml, o.configuration, after)) return status;
  const std::vector<Json> differing = compare_rehearsals(before, after, system_now());
  if (client.output == OutputForm::table)
    print_comparison(client, before, differing);
  else
    print_rows(client, {{"line", ""}, {"pipeline", ""}, {"text", ""}, {"differences", ""}}, differing);
  return differing.empty() ? kFine : kFoundProblems;
}

int run_rehearse(const Client& client, const RehearseOptions& o) {
  if (o.pipeline.empty() && o.source.empty() && o.sample.empty()) {
    std::cerr << "dingle: name a pipeline, or with --source whose lines these are\n";
    return kUsage;
  }
  if (o.has_lines() && (!o.where.empty() || !o.from.empty() || !o.to.empty())) {
    std::cerr << "dingle: lines are given; --where, --from and --to choose stored events instead\n";
    return kUsage;
  }
  if (!o.lines.empty() && !o.file.empty()) {
    std::cerr << "dingle: give a file, or lines\n";
    return kUsage;
  }
  std::string yaml, text;
  if (!o.configuration.empty() && !read_input(o.configuration, yaml)) return kFoundProblems;
  if (!o.file.empty() && !read_input(o.file, text)) return kFoundProblems;
  if (!o.against.empty()) return run_against(client, o, yaml, text);
  const bool people = client.output == OutputForm::table;
  const std::size_t most = people ? kMostForPeople : o.show;
  Json answer;
  int status = kFoundProblems;
  if (!yaml.empty() && o.has_lines() && !o.remember
          ? !rehearse_here(client, o, yaml, text, most, answer)
          : !rehearse_there(client, o, yaml, text, most, answer, status))
    return status;
  bool failed = answer.contains("why_empty");
  std::vector<Json> rows;
  for (const Json& pipeline : answer["pipelines"]) {
    failed |= pipeline["outcomes"]["failed"] != 0 || pipeline["outcomes"]["unrouted"] != 0;
    for (const Json& event : pipeline["events"]) {
      rows.push_back({{"pipeline", pipeline["pipeline"]}});
      rows.back().update(event);
    }
  }
  if (people)
    print_rehearsal(client, answer, o.show);
  else if (client.output == OutputForm::json)
    std::cout << dump(answer, 2) << "\n";
  else
    print_rows(client,
               {{"pipeline", ""},
                {"line", ""},
                {"outcome", ""},
                {"by", ""},
                {"reason", ""},
                {"column", ""},
                {"text", ""},
                {"timestamp", ""},
                {"fields", ""},
                {"steps", ""},
                {"to", ""}},
               rows);
  return failed ? kFoundProblems : kFine;
}

const CommandRegistration rehearse_command(
    "rehearse", "Puts sample lines through a pipeline and shows what each step does to them; nothing is sent",
    "dingle rehearse gate demo/samples/ticket-gate.log --config demo/dingle.yaml", true,
    [](const Arguments& app) -> std::function<int(Client&)> {
      auto o = std::make_shared<RehearseOptions>();
      app.option("PIPELINE", o->pipeline,
                 "The pipeline; without one, all that the lines reach (then --source is needed)");
      app.option("FILE", o->file, "The lines (- for standard input), cut and joined as the source would");
      app.option("--line", o->lines, "A line; may be repeated").repeated();
      app.option(
          "--config", o->configuration,
          "Take this configuration, instead of what the server runs. With lines at hand no server is needed");
      app.option("--against", o->against,
                 "Show what comes out otherwise than with this configuration: a file, or `running`");
      app.option("--source", o->source,
                 "Whose lines these are; without it a source that the pipeline takes from");
      app.option("--newest", o->newest,
                 "Without lines: so many of the newest of the source of a running dingled")
          .with_default();
      app.option("--sample", o->sample, "Instead: the lines of a set of `dingle samples`");
      app.option("--where", o->where, "Instead: stored events of the source for which this holds");
      app.option("--from", o->from, "Stored events from this time on, or from how long ago: 15m");
      app.option("--to", o->to, "Stored events before this time");
      app.flag(
          "--remember", o->remember,
          "Steps with memory begin with a copy of what those of a running dingled hold, not with nothing");
      app.option("--show", o->show, "Show so many events that fared alike").with_default();
      return [o](Client& client) { return run_rehearse(client, *o); };
    });

}  // namespace
}  // namespace dingle
