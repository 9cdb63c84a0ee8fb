// Samples with what is to come of them, kept beside a configuration:
//
//   DIR/PIPELINE/NAME.log      lines, cut and joined as a source of the pipeline would
//   DIR/PIPELINE/NAME.ndjson   a line for each event that comes of them: {"line", "outcome", "by", "reason", "timestamp",
//                              "body", "fields", "to"}; `timestamp` where a step set it, `body` where it is not the line
#pragma once

#include <string>
#include <vector>

#include "agent/configuration.h"

namespace dingle {

struct SampleResults {
  std::size_t samples = 0, events = 0;
  struct Difference {
    std::string file;
    std::size_t line = 0;  // counted from 1; 0: of no line
    std::string text;
  };
  std::vector<Difference> differences;  // at most kMostTold of a sample
  std::size_t more = 0;                 // beyond those
  static constexpr std::size_t kMostTold = 20;
};

// Rehearses all samples in the folder, and compares what comes of them with what was expected. `write`: writes that instead.
SampleResults check_samples(const Configuration& configuration, const std::string& folder, bool write);

}  // namespace dingle
