// A pipeline's work on one batch: its steps in order.
#pragma once

#include <memory>
#include <optional>
#include <string>
#include <vector>

#include "core/steps/memory.h"

namespace dingle {

// Of two counts.
inline std::uint64_t difference(std::uint64_t a, std::uint64_t b) { return a > b ? a - b : b - a; }

// Immutable once built: several workers run it on different batches at once.
class Pipeline {
 public:
  void add(std::unique_ptr<Step> step) {
    step->number = static_cast<std::uint16_t>(steps.size() + 1);
    steps.push_back(std::move(step));
  }

  std::string name;
  // Which lines it takes, and which of those it does not; nullptr: all of its sources, and none.
  std::unique_ptr<Condition> where, unless;
  bool takes(const FieldReader& line) const {
    return (!where || where->holds(line)) && (!unless || !unless->holds(line));
  }
  std::vector<std::unique_ptr<Step>> steps;

  // The events of a batch: those that were not dropped, and the fingerprints of all.
  struct Present {
    std::uint64_t alive = 0, fingerprints = 0;
    explicit Present(const Batch& batch);
  };
  // Runs one step; its tally is added to. What it counted is held against the events that are there before and
  // behind it: by how many it differs stands in `unbalanced`. Dropped events are marked, and stay. `present`: what
  // is known to be there before, if nobody touched the batch since; then what is there behind.
  void step(std::size_t index, Batch& batch, StepTally& tally, std::optional<Present>& present) const;
  // The same of a step with memory, in two parts: what it prepares, and its turn.
  struct Prepared {
    std::unique_ptr<MemoryStep::Prepared> made;  // nullptr at a tick
    StepTally tally;
    std::uint64_t alive = 0;
  };
  Prepared prepare(std::size_t index, Batch& batch) const;
  void turn(std::size_t index, Batch& batch, Prepared& prepared, StepMemory& memory, Turn& turn,
            StepTally& tally) const;
  bool hides() const;  // one of its steps does
  // Behind the last step: what was dropped before a step that hides could look at it is concealed. Each event with a `severity` gets its `severity_number` (OpenTelemetry logs data model,
  // "SeverityNumber"). Counts what is there.
  struct Finished {
    std::uint64_t dropped = 0, unmatched = 0;  // unmatched: not dropped, and a step could not work on it
  };
  Finished finish(Batch& batch) const;
};

}  // namespace dingle
