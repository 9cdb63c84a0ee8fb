#include "core/flow/flow.h"

#include <algorithm>
#include <functional>

namespace dingle {
namespace {

enum class Mark { untouched, open, done };

// Which nodes lines of `source` reach; "" for a source that none names.
std::vector<std::size_t> reached(const std::vector<Flow::Node>& nodes, std::string_view source) {
  std::vector<bool> there(nodes.size(), false);
  std::vector<std::size_t> all;
  for (std::size_t i = 0; i < nodes.size(); ++i) {
    const Flow::Node& n = nodes[i];
    there[i] = n.leftovers || std::find(n.sources.begin(), n.sources.end(), source) != n.sources.end() ||
               std::any_of(n.from.begin(), n.from.end(), [&](std::size_t before) { return there[before]; });
    if (there[i]) all.push_back(i);
  }
  return all;
}

}  // namespace

Flow Flow::of(std::vector<Node> nodes, std::vector<std::size_t>& circle) {
  std::vector<Mark> marks(nodes.size(), Mark::untouched);
  std::vector<std::size_t> way, order;
  const std::function<bool(std::size_t)> visit = [&](std::size_t i) {
    if (marks[i] == Mark::done) return true;
    way.push_back(i);
    if (marks[i] == Mark::open) return false;
    marks[i] = Mark::open;
    for (const std::size_t before : nodes[i].from)
      if (!visit(before)) return false;
    marks[i] = Mark::done;
    way.pop_back();
    order.push_back(i);
    return true;
  };
  for (std::size_t i = 0; i < nodes.size(); ++i) {
    if (visit(i)) continue;
    circle.assign(std::find(way.begin(), way.end(), way.back()), way.end() - 1);
    return {};
  }
  Flow flow;
  std::vector<std::size_t> now_at(nodes.size());
  for (std::size_t k = 0; k < order.size(); ++k) now_at[order[k]] = k;
  for (const std::size_t i : order) {
    Node node = std::move(nodes[i]);
    for (std::size_t& before : node.from) {
      before = now_at[before];
      flow.nodes[before].feeds = true;
    }
    flow.nodes.push_back(std::move(node));
  }
  for (const Node& node : flow.nodes)
    for (const std::string& source : node.sources) flow.by_source_.try_emplace(source);
  for (auto& [source, all] : flow.by_source_) all = reached(flow.nodes, source);
  flow.of_others_ = reached(flow.nodes, "");
  flow.look_for_hidden();
  for (std::size_t n = 0; n < flow.nodes.size(); ++n)
    for (std::size_t s = 0; s < flow.nodes[n].pipeline->steps.size(); ++s)
      if (flow.nodes[n].pipeline->steps[s]->with_memory()) flow.turnstiles.push_back({n, s});
  return flow;
}

void Flow::look_for_hidden() {
  for (Node& n : nodes) {
    n.hides = n.pipeline->hides();
    n.masked = n.hides || (n.sources.empty() && !n.leftovers && !n.from.empty() &&
                           std::all_of(n.from.begin(), n.from.end(),
                                       [&](std::size_t before) { return nodes[before].masked; }));
  }
  const auto look = [&](const std::vector<std::size_t>& reached) {
    if (std::none_of(reached.begin(), reached.end(), [&](std::size_t n) { return nodes[n].hides; })) return;
    for (const std::size_t n : reached) {
      nodes[n].beside_hidden = nodes[n].beside_hidden || !nodes[n].masked;
      any_beside_hidden = any_beside_hidden || !nodes[n].masked;
    }
  };
  for (const auto& [source, reached] : by_source_) look(reached);
  look(of_others_);
}

const std::vector<std::size_t>& Flow::reached_from(std::string_view source) const {
  const auto found = by_source_.find(source);
  return found == by_source_.end() ? of_others_ : found->second;
}

bool Flow::leads_to(std::size_t before, std::size_t node) const {
  if (before == node) return true;
  if (before > node) return false;
  const std::vector<std::size_t>& from = nodes[node].from;
  return std::any_of(from.begin(), from.end(), [&](std::size_t f) { return leads_to(before, f); });
}

}  // namespace dingle
