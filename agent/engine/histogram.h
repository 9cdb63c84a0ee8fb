// A histogram of durations: buckets that grow by a fourth of a power of two, from a microsecond to some
// hours. One thread adds, any thread reads; no locks.
#pragma once

#include <algorithm>
#include <array>
#include <atomic>
#include <bit>
#include <cmath>
#include <cstdint>

namespace dingle {

class Histogram {
 public:
  static constexpr std::size_t kBuckets = 140;
  static constexpr std::int64_t kLongest = 30LL * 86'400 * 1'000'000'000;

  void add(std::int64_t nanoseconds, std::uint64_t times = 1) {
    // A clock that was set back or far off says nothing.
    nanoseconds = std::clamp<std::int64_t>(nanoseconds, 0, kLongest);
    bucket(nanoseconds).fetch_add(times, std::memory_order_relaxed);
    sum_.fetch_add(static_cast<std::uint64_t>(nanoseconds) / 1000 * times, std::memory_order_relaxed);
  }
  std::uint64_t count() const {
    std::uint64_t n = 0;
    for (const auto& b : buckets_) n += b.load(std::memory_order_relaxed);
    return n;
  }
  double sum_seconds() const { return static_cast<double>(sum_.load(std::memory_order_relaxed)) / 1e6; }
  // The duration, in seconds, that a share of all (0 to 1) does not exceed, within 25 %; 0 if there is none.
  double quantile(double share) const {
    const std::uint64_t all = count();
    if (all == 0) return 0;
    const auto wanted = static_cast<std::uint64_t>(std::ceil(share * static_cast<double>(all)));
    std::uint64_t n = 0;
    for (std::size_t i = 0; i < kBuckets; ++i)
      if ((n += buckets_[i].load(std::memory_order_relaxed)) >= wanted) return end_seconds(i);
    return end_seconds(kBuckets - 1);
  }
  // How many took at most so long; exact for ends of buckets.
  std::uint64_t at_most(double seconds) const {
    std::uint64_t n = 0;
    for (std::size_t i = 0; i < kBuckets && end_seconds(i) <= seconds * 1.0001; ++i)
      n += buckets_[i].load(std::memory_order_relaxed);
    return n;
  }
  // Where bucket i ends, in seconds: 1.25, 1.5, 1.75, 2, 2.5, ... microseconds.
  static double end_seconds(std::size_t i) {
    return std::ldexp(1.0 + static_cast<double>(i % 4 + 1) / 4, static_cast<int>(i / 4)) * 1e-6;
  }

 private:
  std::atomic<std::uint64_t>& bucket(std::int64_t nanoseconds) {
    const std::uint64_t quarters = nanoseconds < 1000 ? 4 : static_cast<std::uint64_t>(nanoseconds) / 250;
    const auto power = static_cast<std::size_t>(std::bit_width(quarters) - 3);
    return buckets_[std::min(kBuckets - 1, power * 4 + ((quarters >> power) & 3))];
  }
  std::array<std::atomic<std::uint64_t>, kBuckets> buckets_{};
  std::atomic<std::uint64_t> sum_{0};  // microseconds
};

}  // namespace dingle
