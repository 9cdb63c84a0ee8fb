#include "agent/configuration_flow.h"

#include <algorithm>

namespace dingle {
namespace {

std::size_t index_of(const Configuration& c, const std::string& pipeline) {
  const auto& all = c.pipelines;
  return static_cast<std::size_t>(
      std::find_if(all.begin(), all.end(), [&](const PipelineSettings& p) { return p.name == pipeline; }) -
      all.begin());
}

const Named* written(const TakesFrom& taking, const std::string& name) {
  for (const Named& n : taking.from)
    if (n.name == name) return &n;
  return nullptr;
}

void told_circle(const Configuration& c, const std::vector<TakesFrom>& taking,
                 const std::vector<std::size_t>& circle, Findings& findings) {
  // circle[i] takes from circle[i + 1], and the last from the first.
  std::string way;
  for (auto i = circle.rbegin(); i != circle.rend(); ++i) way += "`" + c.pipelines[*i].name + "` -> ";
  way += "`" + c.pipelines[circle.back()].name + "`";
  const std::size_t first = circle.front();
  const Named* at = written(taking[first], c.pipelines[circle[circle.size() > 1 ? 1 : 0]].name);
  if (at)
    findings.error(at->at, "events would go in a circle: " + way,
                   "a pipeline takes from sources, and from pipelines that do not take from it");
}

// What pauses every source when it is full.
void warn_of_pauses(const Configuration& c, const Flow& flow, const std::vector<TakesFrom>& taking,
                    Findings& findings) {
  for (std::size_t i = 0; i < flow.nodes.size(); ++i) {
    if (!flow.nodes[i].leftovers) continue;
    const Named* at = written(taking[flow.nodes[i].number], std::string(Flow::kLeftovers));
    for (std::size_t k = i; at && k < flow.nodes.size(); ++k)
      for (const Flow::Output& o :
           flow.leads_to(i, k) ? flow.nodes[k].outputs : std::vector<Flow::Output>()) {
        const DestinationSettings& d = c.destinations[o.destination];
        if (d.kind->stores && d.common.section("queue").text("overflow") == "pause")
          findings.warning(
              at->at,
              "leftovers may come from every source, so that all of them wait when the queue of `" + d.name +
                  "` is full",
              "say overflow: shed_oldest in the queue of `" + d.name + "` if that must not be");
      }
  }
}

}  // namespace

Flow read_flow(const Configuration& c, const std::vector<std::string>& sources,
               const std::vector<TakesFrom>& taking, Findings& findings) {
  std::vector<Flow::Node> nodes;
  std::vector<bool> feeds(c.pipelines.size(), false);
  for (std::size_t i = 0; i < c.pipelines.size(); ++i) {
    const PipelineSettings& p = c.pipelines[i];
    Flow::Node node;
    node.pipeline = p.pipeline;
    node.number = i;
    for (const auto& [name, at] : taking[i].from) {
      const std::size_t pipeline = index_of(c, name);
      const bool is_pipeline = pipeline < c.pipelines.size();
      if (std::find(sources.begin(), sources.end(), name) != sources.end()) {
        node.sources.push_back(name);
        if (is_pipeline && pipeline != i)
          findings.warning(at, "`" + name + "` is a source and a pipeline: the source is meant",
                           "give the pipeline another name to take its events");
      } else if (name == Flow::kLeftovers) {
        node.leftovers = true;
      } else if (is_pipeline) {
        node.from.push_back(pipeline);
        feeds[pipeline] = true;
      }
    }
    for (const Route& route : p.to) {
      const DestinationSettings* d = c.destination(route.destination);
      if (d) node.outputs.push_back({static_cast<std::size_t>(d - c.destinations.data()), route.where});
    }
    nodes.push_back(std::move(node));
  }
  for (std::size_t i = 0; i < nodes.size(); ++i)
    if (!feeds[i] && !taking[i].has_to)
      findings.error(taking[i].entry->key_place, taking[i].entry->key.size(),
                     "the events of `" + c.pipelines[i].name +
                         "` go nowhere: it has no `to`, and no pipeline takes them",
                     "add to: [DESTINATION]");
  std::vector<std::size_t> circle;
  Flow flow = Flow::of(std::move(nodes), circle);
  if (!circle.empty())
    told_circle(c, taking, circle, findings);
  else
    warn_of_pauses(c, flow, taking, findings);
  return flow;
}

}  // namespace dingle
