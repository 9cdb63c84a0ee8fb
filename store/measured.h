// What the events of a group came to.
#pragma once

#include <xxhash.h>

#include <algorithm>
#include <cmath>
#include <cstdint>
#include <utility>
#include <vector>

#include "core/steps/weight.h"
#include "store/search.h"

namespace dingle {

struct Measured {
  std::uint64_t count = 0, seen = 0;  // seen: of stored events
  double sum = 0, events = 0, least = INFINITY, greatest = -INFINITY;
  std::vector<std::pair<double, double>> samples;  // with their weights

  // `weight`: events that it stands for; `its`: how its value counts.
  void add(double number, std::uint64_t weight, FieldWeight its) {
    count += weight;
    ++seen;
    sum += number * its.times;
    events += its.events;
    least = std::min(least, number);
    greatest = std::max(greatest, number);
  }
  // Whether a value had to give way: a reservoir, in which each is kept with the same chance.
  bool keep(double number, double weight) {
    if (samples.size() < kMostSamples) {
      samples.emplace_back(number, weight);
      return false;
    }
    const std::uint64_t slot = XXH64(&seen, sizeof seen, 0) % seen;
    if (slot < kMostSamples) samples[slot] = {number, weight};
    return true;
  }
  // Of a group that has an event. Sorts the samples.
  double value(Measure measure, double percentile) {
    switch (measure) {
      case Measure::count: return static_cast<double>(count);
      case Measure::sum: return sum;
      case Measure::average: return sum / events;
      case Measure::minimum: return least;
      case Measure::maximum: return greatest;
      case Measure::percentile: break;
    }
    // Nearest rank, each value as often as it counts.
    std::sort(samples.begin(), samples.end());
    double all = 0, below = 0;
    for (const auto& [value, weight] : samples) all += weight;
    const double rank = std::max(1.0, std::ceil(percentile / 100 * all));
    auto at = samples.begin();
    while (std::next(at) != samples.end() && (below += at->second) < rank) ++at;
    return at->first;
  }
  bool take(Measured&& other) {
    const bool too_many = samples.size() + other.samples.size() > kMostSamples;
    if (too_many) {  // of each as many as it has seen
      const auto share = [&](std::uint64_t n) {
        return static_cast<std::size_t>(static_cast<double>(kMostSamples) * static_cast<double>(n) /
                                        static_cast<double>(seen + other.seen));
      };
      samples.resize(std::min(samples.size(), share(seen)));
      other.samples.resize(std::min(other.samples.size(), share(other.seen)));
    }
    samples.insert(samples.end(), other.samples.begin(), other.samples.end());
    count += other.count;
    seen += other.seen;
    sum += other.sum;
    events += other.events;
    least = std::min(least, other.least);
    greatest = std::max(greatest, other.greatest);
    return too_many;
  }
};

}  // namespace dingle
