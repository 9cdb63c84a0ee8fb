// Ratios: a benchmark named "NAME/ours" is compared with every "NAME/baseline ..." of the same run, by their
// medians.
#pragma once

#include <benchmark/benchmark.h>

#include <map>
#include <string>
#include <vector>

namespace dingle {

class RatioReporter final : public benchmark::ConsoleReporter {
 public:
  void ReportRuns(const std::vector<Run>& runs) override;
  // The table: name, ours, baseline, ratio.
  std::string table() const;

 private:
  std::vector<std::string> order_;
  std::map<std::string, std::vector<double>> rates_;  // items a second, by benchmark
};

// Access-log lines, the same every time.
const std::string& access_log();  // about 20 MB
const std::vector<std::string_view>& access_lines();
extern const char* const kAccessTemplate;  // 12 captures, typed values, event time
extern const char* const kAccessRegex;     // the same 12 groups

}  // namespace dingle
