// Pipelines that leave events the time at which they were read, though their lines carry one of their own.
#include <algorithm>

#include "agent/configuration_hiding.h"
#include "agent/engine/engine.h"
#include "core/draft/draft.h"

namespace dingle {
namespace {

constexpr std::size_t kEnough = 20, kMost = 200;  // lines by which it is told
constexpr std::size_t kFew = 10;                  // of so many lines one may be of another kind

// Whether time means something to where its events go, and nothing sets it.
bool is_untimed(const Configuration& c, const Flow::Node& node) {
  const auto& steps = node.pipeline->steps;
  return !node.sources.empty() &&
         std::any_of(node.outputs.begin(), node.outputs.end(),
                     [&](const Flow::Output& o) { return c.destinations[o.destination].kind->stores; }) &&
         std::none_of(steps.begin(), steps.end(), [](const auto& s) { return s->kind == "time" && !s->off; });
}

// What would set it, by lines of the pipeline; "" if they carry none.
std::string proposal(const std::vector<std::string_view>& lines, std::int64_t now, bool hidden) {
  const Draft draft = draft_templates(lines, now);
  if (draft.time_field.empty() || draft.unexplained * kFew > draft.lines) return "";
  const std::string time = "`time: { field: " + draft.time_field + " }`";
  if (draft.json) return "the steps `json` and " + time;
  if (hidden) return time;  // a template would hold words of the lines
  return draft.templates.empty() ? ""
                                 : time + " behind a template such as `" + draft.templates.front().text + "`";
}

}  // namespace

void Engine::look_for_times() {
  const std::shared_ptr<const Configuration> configuration = this->configuration();
  if (configuration != times_of_) {
    times_of_ = configuration;
    for (const std::string& about : times_told_) problems_.clear(about);
    times_told_.clear();
    problems_.clear_with_prefix("hiding: ");
    for (const std::string& step : hiding_switched_off(*configuration))
      problems_.set("hiding: " + step, "it is switched off: what it would hide is stored and shown");
    untimed_.clear();
    for (std::size_t i = 0; i < configuration->flow.nodes.size(); ++i)
      if (is_untimed(*configuration, configuration->flow.nodes[i])) untimed_.push_back(i);
  }
  std::erase_if(untimed_, [&](std::size_t index) {
    const Flow::Node& node = configuration->flow.nodes[index];
    std::vector<SampleLine> lines;
    const LineHeader* header = nullptr;  // of them all, or none
    for (const std::string& source : node.sources)
      if (const SourceSettings* s = configuration->source(source)) header = s->header();
    for (const std::string& source : node.sources)
      for (SampleLine& line : newest_lines_.of(source, kMost)) lines.push_back(std::move(line));
    Batch batch;
    batch.pipeline = node.pipeline->name;
    std::vector<std::string_view> taken;
    for (const SampleLine& line : lines) {
      const std::span<const Field> resource =
          line.resource ? std::span<const Field>(line.resource->fields) : std::span<const Field>();
      batch.resources = {&resource, 1};
      Event event;
      event.body = line.text;
      if (node.pipeline->takes(LineHeader::Reader(header, batch, event))) taken.push_back(line.text);
    }
    if (taken.size() < kEnough) return false;  // not yet
    if (const std::string what = proposal(taken, clock_.wall(), node.pipeline->hides()); !what.empty()) {
      times_told_.push_back("pipeline " + node.pipeline->name + ": time");
      problems_.set(
          times_told_.back(),
          "its events have the time at which they were read, though their lines carry one; add " + what);
    }
    return true;
  });
}

}  // namespace dingle
