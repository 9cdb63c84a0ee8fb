// Follows fields through the pipelines of a configuration: who names one that nothing makes is told, with the nearest name.
#pragma once

#include <vector>

#include "agent/configuration.h"
#include "core/options/options.h"

namespace dingle {

// A pipeline's options and those of its steps, as they were written.
struct WrittenPipeline {
  Options options;
  std::vector<Options> steps;
};

// For a configuration whose pipelines are joined; written[i] is of pipelines[i].
void follow_fields(const Configuration& configuration, const std::vector<WrittenPipeline>& written,
                   Findings& findings);

}  // namespace dingle
