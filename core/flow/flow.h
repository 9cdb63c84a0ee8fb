// The graph of pipelines: which lines reach which pipeline, and where what it makes goes. Made from a configuration;
// immutable, and used by several workers at once.
#pragma once

#include <map>
#include <memory>
#include <string>
#include <string_view>
#include <vector>

#include "core/flow/pipeline.h"

namespace dingle {

struct Flow {
  static constexpr std::string_view kLeftovers = "leftovers";  // where a pipeline names what it takes from

  struct Output {
    std::size_t destination = 0;             // index into the configuration's destinations
    std::shared_ptr<const Condition> where;  // on the finished event; nullptr: all of them
  };
  struct Node {
    std::shared_ptr<const Pipeline> pipeline;
    std::size_t number = 0;            // the pipeline's index in the configuration
    std::vector<std::string> sources;  // whose lines it takes
    std::vector<std::size_t> from;     // nodes whose finished events it takes
    bool leftovers = false;            // it takes the lines that no pipeline took from a source
    bool feeds = false;                // others take its events
    bool hides = false;                // one of its steps does
    bool masked = false;               // it does, or all that it takes from
    bool beside_hidden = false;        // it is not, and one that hides may take the same lines
    std::vector<Output> outputs;
  };

  // Puts the nodes in an order in which each stands behind those that it takes from, otherwise as they came. Where they go in a
  // circle, `circle` gets its nodes, by their index in `nodes`, each in front of one that it takes from, and the flow stays empty.
  static Flow of(std::vector<Node> nodes, std::vector<std::size_t>& circle);

  std::vector<Node> nodes;
  bool any_beside_hidden = false;
  // The steps with memory, in the order in which a batch comes to them.
  struct Turnstile {
    std::size_t node = 0, step = 0;
  };
  std::vector<Turnstile> turnstiles;
  const MemoryStep& step_of(const Turnstile& t) const {
    return *nodes[t.node].pipeline->steps[t.step]->with_memory();
  }
  // Those that a line of the source may reach, in order.
  const std::vector<std::size_t>& reached_from(std::string_view source) const;
  // Whether what the node `before` makes may reach `node`, or it is the same.
  bool leads_to(std::size_t before, std::size_t node) const;

 private:
  void look_for_hidden();
  std::map<std::string, std::vector<std::size_t>, std::less<>> by_source_;
  std::vector<std::size_t> of_others_;  // of sources that no pipeline names: leftovers alone
};

}  // namespace dingle
