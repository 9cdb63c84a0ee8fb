// The memory of one step, as a configuration runs, and whose turn it is. A memory lives from the change of
// configuration that brings its step to the one that takes it away or gives it another meaning, over restarts.
//
// In the spool's state, under `memory/<step id>/` and the memory's own keys, stands what it holds; with no key of
// its own, the head: varint serial, text meaning, text pipeline, text step.
#pragma once

#include <atomic>
#include <cstdint>
#include <memory>
#include <string>
#include <vector>

#include "core/flow/work.h"
#include "spool/spool.h"

namespace dingle {

class Turnstile {
 public:
  // What stands in the spool's state of one step's memory.
  struct Head {
    std::uint64_t serial = 0;
    std::string meaning, pipeline, step;
  };
  static std::string prefix(std::uint32_t id) { return "memory/" + std::to_string(id) + "/"; }
  static std::vector<std::pair<std::uint32_t, Head>> all(const Spool& spool);

  Turnstile(std::uint32_t id, std::string pipeline, std::string name, const MemoryStep& step);
  // Makes the memory anew from what the spool's state says, if it has one of that meaning. Answers how many entries of it
  // could not be read.
  std::uint64_t recall(const Spool& spool, const MemoryStep& step, std::int64_t now);
  // Takes a turn, and appends what changed to `changes`. Only by whose turn it is.
  void turn(Work& work, std::int64_t now, CounterId held, Changes& changes);
  // Takes it all out of the spool's state.
  static Changes removal(const Spool& spool, std::uint32_t id);

  std::uint32_t id() const { return id_; }
  const std::string& pipeline() const { return pipeline_; }
  const std::string& name() const { return name_; }
  const std::string& meaning() const { return meaning_; }
  // Thread-safe, as of the last turn.
  StepMemory::Size size() const { return {entries_, bytes_, held_}; }
  std::int64_t next_due() const { return next_due_; }

  std::uint64_t next = 0;  // whose turn it is; guarded by who gives tickets

 private:
  void look();
  std::string head() const;
  std::uint32_t id_;
  std::string pipeline_, name_, meaning_;
  std::unique_ptr<StepMemory> memory_;
  bool noted_ = false;  // its head stands in the spool
  std::atomic<std::uint64_t> entries_{0}, bytes_{0}, held_{0};
  std::atomic<std::int64_t> next_due_{kNever};
};

}  // namespace dingle
