// The memory of one step, as a configuration runs, and whose turn it is. A memory lives from the change of
// configuration that brings its step to the one that takes it away or gives it another meaning, over restarts.
//
// In the spool's state, under `memory/<step id>/` and the memory's own keys, stands what it holds; with no key of
// its own, the head: varint serial, text meaning. When it sent all
// that it held, `serial/<step id>` keeps the serial (varint): no event that a step makes has another one's place.
#pragma once

#include <atomic>
#include <cstdint>
#include <memory>
#include <optional>
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
    std::string meaning;
  };
  static std::string prefix(std::uint32_t id) { return "memory/" + std::to_string(id) + "/"; }
  static std::vector<std::pair<std::uint32_t, Head>> all(const Spool& spool);

  // `before` is of the same step, with another meaning: this one opens when that one is through.
  Turnstile(std::uint32_t id, const MemoryStep& step, std::shared_ptr<const Turnstile> before);
  // Makes the memory anew from what the spool's state says. Answers how many entries of it could not be read;
  // nullopt: they are of another meaning.
  std::optional<std::uint64_t> recall(const Spool& spool, const MemoryStep& step, std::int64_t now);
  std::unique_ptr<StepMemory> give() { return std::move(memory_); }  // then it is done with
  // What others see of the memory is from now on that of this step (MemoryStep::show).
  void show(const MemoryStep& step) { step.show(*memory_); }
  // Takes a turn, and appends what changed to `changes`. Only by whose turn it is.
  void turn(Work& work, std::int64_t now, CounterId held, Changes& changes);
  // Takes it all out of the spool's state; `entries` is how many there were.
  static Changes removal(const Spool& spool, std::uint32_t id, std::uint64_t& entries);

  std::uint32_t id() const { return id_; }
  const std::string& meaning() const { return meaning_; }
  // Thread-safe, as of the last turn.
  StepMemory::Size size() const { return {entries_, bytes_, held_}; }
  std::int64_t next_due() const { return next_due_; }

  // ---- guarded by who gives tickets ----
  // Tickets below that one do not come here.
  void open_at(std::uint64_t ticket) { next_ = first_ = ticket; }
  bool is_open(std::uint64_t ticket) const {
    return next_ == ticket && (!before_ || before_->next_ >= first_);
  }
  void enter();  // by whose turn it is
  void leave() { ++next_; }

 private:
  void look();
  std::string head() const;
  const std::uint32_t id_;
  const std::string meaning_;
  std::shared_ptr<const Turnstile> before_;
  std::uint64_t next_ = 0, first_ = 0;
  std::unique_ptr<StepMemory> memory_;
  std::atomic<std::uint64_t> entries_{0}, bytes_{0}, held_{0};
  std::atomic<std::int64_t> next_due_{kNever};
};

}  // namespace dingle
