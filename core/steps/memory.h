// Steps with memory: what an event becomes depends on those before it.
//
// The memory of a step is one for all workers, and batches come to it in the order of their tickets: a worker
// prepares what it can without it (keys, sums over its batch), waits for its turn, and takes it. What changed in
// the memory is said with the turn, as new values; who runs the flow makes that durable together with the events.
#pragma once

#include <cstdint>
#include <limits>
#include <memory>
#include <optional>
#include <string>
#include <string_view>
#include <vector>

#include "core/steps/step.h"
#include "core/steps/tally.h"

namespace dingle {

class TableHandle;

inline constexpr std::int64_t kNever = std::numeric_limits<std::int64_t>::max();

// What one step remembers. Not thread-safe: whose turn it is has it.
class StepMemory {
 public:
  struct Change {
    std::string key;
    std::optional<std::string> value;  // the new one; none: it was removed
  };
  struct Size {
    std::uint64_t entries = 0, bytes = 0;
    std::uint64_t held = 0;  // events that were taken away, and for which none was made yet
  };
  virtual ~StepMemory() = default;
  virtual Size size() const = 0;
  virtual std::int64_t next_due() const {
    return kNever;
  }  // when a tick has something to do; ns since 1970 UTC

  std::uint64_t serial = 0;  // of the next event that the step makes
};

// One turn of a step.
struct Turn {
  enum class Why {
    events,      // a batch
    due,         // a tick: what is due, at most kMostAtOnce
    everything,  // the step goes, or means something else from now on: all that it holds
  };
  static constexpr std::size_t kMostAtOnce = 10'000;
  Why why = Why::events;
  std::int64_t now = 0;                          // ns since 1970 UTC
  std::uint16_t slice = 0;                       // of the events that it makes
  std::vector<StepMemory::Change> changes = {};  // made by the turn, in order
};

class MemoryStep : public Step {
 public:
  // What a batch brings; made without the memory.
  struct Prepared {
    virtual ~Prepared() = default;
  };
  virtual std::unique_ptr<Prepared> prepare(Batch& batch, StepTally& tally) const = 0;
  // Makes `batch` what it becomes. `prepared` is of the same batch; nullptr at a tick.
  virtual void turn(Batch& batch, StepTally& tally, Prepared* prepared, StepMemory& memory,
                    Turn& turn) const = 0;
  virtual std::unique_ptr<StepMemory> begin() const = 0;  // a memory that is empty
  // Takes back into a memory what a change said, after a start at `now`. False if it is none of this step's.
  virtual bool restore(StepMemory& memory, std::string_view key, std::string_view value,
                       std::int64_t now) const = 0;
  // What its memory means: of another step's memory with an equal text it can go on.
  virtual std::string meaning() const = 0;
  virtual std::uint64_t most_bytes() const = 0;  // that its memory may take

  // Called before the memory is first used by a running flow, and again when a changed one goes on with it: for what others see of it.
  virtual void show(StepMemory&) const {}
  virtual const TableHandle* fills() const { return nullptr; }  // the table that its memory is

  // The metric that it counts into, if it does, and one series of it from an entry of the memory.
  virtual const TallyMetric* metric_of() const { return nullptr; }
  virtual bool series_of(std::string_view, std::string_view, TallySeries&) const { return false; }

  const MemoryStep* with_memory() const final { return this; }
  void run(Batch& batch, StepTally& tally) const final;  // without a memory: everything passes
};

}  // namespace dingle
