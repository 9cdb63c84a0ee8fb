#include "agent/engine/identities.h"

#include <algorithm>

#include "agent/engine/turnstile.h"

namespace dingle {

const std::string& name_of(const Step& step) { return step.name.empty() ? step.kind : step.name; }

Identities::Identities(const Spool& spool, const Configuration& c, const Configuration* before) {
  const auto runs = [&](const PipelineSettings& p) {
    return before == nullptr || std::any_of(before->pipelines.begin(), before->pipelines.end(),
                                            [&](const PipelineSettings& b) { return b.name == p.name; });
  };
  const auto remembers = [&](std::uint32_t step) {
    return before == nullptr || spool.state(Turnstile::prefix(step)).has_value();
  };
  for (const PipelineSettings& p : c.pipelines) {
    std::uint32_t id = spool.known(0, p.name);
    const std::uint32_t former = p.was.empty() ? 0 : spool.known(0, p.was);
    if (former != 0 && (id == 0 || !runs(p))) renamed.push_back({0, p.was, p.name}), id = former;
    pipelines.push_back(id);
  }
  for (const Flow::Turnstile& t : c.flow.turnstiles) {
    const std::uint32_t pipeline = pipelines[c.flow.nodes[t.node].number];
    const MemoryStep& step = c.flow.step_of(t);
    std::uint32_t id = pipeline == 0 ? 0 : spool.known(pipeline, name_of(step));
    const std::uint32_t former = pipeline == 0 || step.was.empty() ? 0 : spool.known(pipeline, step.was);
    if (former != 0 && (id == 0 || !remembers(id)))
      renamed.push_back({pipeline, step.was, name_of(step)}), id = former;
    steps.push_back(id);
  }
}

}  // namespace dingle
