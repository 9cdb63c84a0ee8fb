// The state, counters and cursors as of what every destination is done with: for a spool in memory, which begins with that
// again. No lock of its own.
#pragma once

#include <cstdint>
#include <deque>
#include <utility>
#include <vector>

#include "spool/format.h"

namespace dingle {

class Acknowledged {
 public:
  explicit Acknowledged(Snapshot begin) : snapshot_(std::move(begin)) {}
  // A record that was written; its changes count when all before it were passed.
  void written(std::uint64_t number, Changes changes,
               std::vector<std::pair<std::uint32_t, std::uint32_t>> destinations = {});
  // All before record `needed` is done with. `names`: of all counters.
  const Snapshot& up_to(std::uint64_t needed, std::vector<CounterName> names);

 private:
  struct Pending {
    std::uint64_t number = 0;
    Changes changes;
    std::vector<std::pair<std::uint32_t, std::uint32_t>> destinations;  // id, events for it
  };
  std::deque<Pending> pending_;
  Snapshot snapshot_;
};

}  // namespace dingle
