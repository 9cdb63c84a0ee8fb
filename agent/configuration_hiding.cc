#include "agent/configuration_hiding.h"

#include <algorithm>
#include <set>

#include "core/steps/hiding.h"

namespace dingle {

void settle_hiding(const Options& options, const Options& server, const Node& at, Pipeline& pipeline,
                   Findings& findings, const StepMaking::SealingOf& sealing) {
  const std::string key = server.section("held").text("key");
  const std::string chosen = options.given("unparsed") ? options.text("unparsed")
                             : key.empty()             ? "mask"
                                                       : "hold";
  const Step* remembers = nullptr;
  bool any = false, off = false;
  for (const auto& step : pipeline.steps) {
    off = off || (step->off && (step->kind == "mask" || step->kind == "digest"));
    if (step->with_memory() && remembers == nullptr) remembers = step.get();
    if (step->hides() == nullptr) continue;
    any = true;
    if (remembers != nullptr)
      findings.error(at,
                     "in `" + pipeline.name + "` the step `" + step->kind + "` stands behind `" +
                         remembers->kind + "`, which remembers what it should not see",
                     "put `" + step->kind + "` before it");
    step->treat_unparsed(chosen == "hold"   ? Unparsed::hold
                         : chosen == "mask" ? Unparsed::mask
                                            : Unparsed::pass,
                         chosen == "hold" ? sealing(key) : nullptr);
  }
  if (!options.given("unparsed")) return;
  if (!any && !off)
    findings.error(options.where("unparsed"), "no step of `" + pipeline.name + "` hides anything",
                   "`unparsed` is for pipelines with `mask` or `digest`");
  else if (chosen == "hold" && key.empty())
    findings.error(options.where("unparsed"), "`hold` needs a key",
                   "add server: { held: { key: { file: PATH } } }");
}

void check_hiding(const Configuration& configuration, const Node& pipelines, Findings& findings) {
  const auto& nodes = configuration.flow.nodes;
  const std::string key = configuration.server.section("held").text("key");
  const auto where = [&](const std::string& name) {
    Node at = pipelines;
    for (const Node::Entry& e : pipelines.entries)
      if (e.key == name) at.place = e.key_place, at.scalar = name;
    return at;
  };
  for (const Flow::Node& open : nodes) {
    const bool stores = std::any_of(open.outputs.begin(), open.outputs.end(), [&](const Flow::Output& o) {
      return configuration.destinations[o.destination].kind->spec.name != std::string_view("nowhere");
    });
    if (open.pipeline->hides() || !stores) continue;
    for (const Flow::Node& hiding : nodes)
      for (const std::string& source : open.sources)
        if (hiding.pipeline->hides() &&
            std::find(hiding.sources.begin(), hiding.sources.end(), source) != hiding.sources.end())
          findings.warning(
              where(open.pipeline->name),
              "`" + hiding.pipeline->name + "` hides what lines of `" + source + "` hold, and `" +
                  open.pipeline->name + "` stores them as they are",
              "let it take from `" + hiding.pipeline->name + "`, or hide the same there" +
                  (key.empty() ? "; of what its destinations refuse only the shape is kept, unless "
                                 "`server.held.key` is set"
                               : ""));
  }
}

std::string missing_key(const Configuration& configuration) {
  for (const PipelineSettings& p : configuration.pipelines)
    for (const auto& step : p.pipeline->steps)
      if (const auto keyed = step->keyed())
        if (const std::string problem = keyed->problem(); !problem.empty())
          return "pipeline " + p.name + ": `" + step->kind + "` has no key: " + problem;
  return "";
}

std::vector<std::string> hiding_switched_off(const Configuration& configuration) {
  std::vector<std::string> all;
  for (const PipelineSettings& p : configuration.pipelines)
    for (const auto& step : p.pipeline->steps)
      if (step->off && (step->kind == "mask" || step->kind == "digest"))
        all.push_back("pipeline " + p.name + ": " + (step->name.empty() ? step->kind : step->name));
  return all;
}

std::string hides_less(const Configuration& before, const Configuration& after) {
  for (const PipelineSettings& b : before.pipelines) {
    if (b.hiding.empty()) continue;
    const auto a = std::find_if(after.pipelines.begin(), after.pipelines.end(),
                                [&](const PipelineSettings& one) { return one.name == b.name; });
    if (a == after.pipelines.end()) return "pipeline " + b.name + ", which hides, is gone";
    if (a->hiding != b.hiding)
      return "pipeline " + b.name + ": what it hides, or of which lines, is not the same";
  }
  // Who else sees what is hidden.
  const auto takers = [](const Configuration& c, const std::string& source) {
    std::set<std::string> all;
    for (const std::size_t node : c.flow.reached_from(source)) all.insert(c.flow.nodes[node].pipeline->name);
    return all;
  };
  for (const SourceSettings& s : before.sources) {
    if (!is_hidden(before, s.name) || after.source(s.name) == nullptr) continue;
    if (takers(before, s.name) != takers(after, s.name))
      return "source " + s.name + ": other pipelines take its lines";
  }
  // A file of before under another source's name.
  for (const SourceSettings& s : after.sources)
    if (const SourceSettings* b = before.source(s.name);
        !is_hidden(after, s.name) && (b == nullptr || b->written != s.written) &&
        std::any_of(before.sources.begin(), before.sources.end(),
                    [&](const SourceSettings& one) { return is_hidden(before, one.name); }))
      return "source " + s.name + " is another, and no pipeline hides what it reads";
  return "";
}

bool is_hidden(const Configuration& configuration, const std::string& source) {
  for (const std::size_t node : configuration.flow.reached_from(source))
    if (configuration.flow.nodes[node].pipeline->hides()) return true;
  return false;
}

}  // namespace dingle
