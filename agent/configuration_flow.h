// How pipelines are joined: what each takes from, and where that leads.
#pragma once

#include <memory>
#include <string>
#include <vector>

#include "agent/configuration.h"
#include "core/options/node.h"

namespace dingle {

// A name as it stands in a list of the configuration.
struct Named {
  std::string name;
  Node at;
};

// What a pipeline takes from, as it was written.
struct TakesFrom {
  std::vector<Named> from;
  const Node::Entry* entry = nullptr;  // the pipeline's
  bool has_to = false;                 // it says where its events go, well or not
};

// Joins the pipelines of a configuration that has all its pipelines and destinations; taking[i] is of pipelines[i]. A name means the source, where a source and a pipeline have it. What is unsound goes to `findings`.
Flow read_flow(const Configuration& configuration, const std::vector<std::string>& sources,
               const std::vector<TakesFrom>& taking, Findings& findings);

}  // namespace dingle
