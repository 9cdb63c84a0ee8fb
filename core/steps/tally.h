// What `tally` counted, for whoever shows it.
#pragma once

#include <cstdint>
#include <optional>
#include <string>
#include <string_view>
#include <utility>
#include <vector>

namespace dingle {

struct TallySeries {
  std::vector<std::pair<std::string, std::string>> labels;
  double value = 0;  // a counter's, a gauge's; a histogram's sum
  std::vector<std::uint64_t>
      buckets;  // histogram: of values up to each bound, not those before it; the last has no bound
};

struct TallyMetric {
  enum class Form { counter, gauge, histogram } form = Form::counter;
  std::string name, help;
  std::vector<double> bounds;
};

}  // namespace dingle
