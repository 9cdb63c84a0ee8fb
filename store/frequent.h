// Which of very many values come often: for those that found no room, in a fixed half of a megabyte.
//
// Counters that several values share, each by its hash; a value whose counter goes beyond a share of all that was counted is one
// that comes often, or shares its counter with one (Estan and Varghese, "New directions in traffic measurement", 2002). No value
// that comes more often than that share stays unnoticed.
#pragma once

#include <cstdint>
#include <vector>

namespace dingle {

class Frequent {
 public:
  // Counts so many more of the value with this hash. Whether it should be given room now: its counter begins anew.
  bool add(std::uint64_t hash, std::uint64_t events) {
    if (counters_.empty()) counters_.resize(kCounters);
    all_ += events;
    std::uint64_t& counter = counters_[(hash * 0x9E3779B97F4A7C15u) >> (64 - kCountersLog)];
    counter += events;
    if (counter < kLeast || counter < all_ / kShare) return false;
    counter = 0;
    return true;
  }

 private:
  static constexpr unsigned kCountersLog = 16;
  static constexpr std::size_t kCounters = std::size_t{1} << kCountersLog;
  static constexpr std::uint64_t kShare = 1 << 13;  // eight times what a counter has on average
  static constexpr std::uint64_t kLeast = 64;
  std::vector<std::uint64_t> counters_;
  std::uint64_t all_ = 0;
};

}  // namespace dingle
