// The time that a source had to look around. While it is held up (a full queue, a stopped process, a machine that slept) it
// sees nothing of what happens to its files, so that time does not count as waiting for it.
#pragma once

#include <algorithm>

#include "core/time/clock.h"

namespace dingle {

// For one thread, which tells of each look. Of the time between two looks only the first half second counts.
class Attention final : public Clock {
 public:
  explicit Attention(const Clock& clock) : clock_(clock), looked_at_(clock.steady()) {}
  void look() {
    attended_ = steady();
    looked_at_ = clock_.steady();
  }
  std::int64_t wall() const override { return clock_.wall(); }
  std::int64_t steady() const override {
    return attended_ + std::min(clock_.steady() - looked_at_, kMostBetween);
  }

 private:
  static constexpr std::int64_t kMostBetween = 500'000'000;  // ns
  const Clock& clock_;
  std::int64_t looked_at_, attended_ = 1;
};

}  // namespace dingle
