// Which ids a configuration's pipelines and steps with memory have in the spool: those of their names, or of their
// former ones (`was`). What a pipeline counted and what a step remembers are kept by these.
#pragma once

#include <cstdint>
#include <vector>

#include "agent/configuration.h"
#include "spool/spool.h"

namespace dingle {

// What a step with memory is known by within its pipeline.
const std::string& name_of(const Step& step);

struct Identities {
  std::vector<std::uint32_t> pipelines, steps;  // by pipeline; by the flow's turnstiles. 0: there is none yet
  std::vector<Spool::Renamed> renamed;          // by which they get their names

  // As they are with that configuration; nothing is noted. A former name hands nothing over to a name that is itself
  // in use: by a pipeline of the configuration that ran, by a step that remembers something. Where none ran, any
  // name that is known counts as in use.
  Identities(const Spool& spool, const Configuration& configuration, const Configuration* before);
};

}  // namespace dingle
