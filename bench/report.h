// Ratios: a benchmark named "NAME/ours" is compared with every "NAME/baseline ..." of the same run, by their
// medians. Of a benchmark named "NAME/limits" the counters are shown as they are.
#pragma once

#include <benchmark/benchmark.h>

#include <map>
#include <string>
#include <vector>

namespace dingle {

class RatioReporter final : public benchmark::ConsoleReporter {
 public:
  void ReportRuns(const std::vector<Run>& runs) override;
  std::map<std::string, double> stolen;  // by name: the share of processor time that others had meanwhile
  // The table: name, ours, baseline, ratio, stolen.
  std::string table() const;

 private:
  std::vector<std::string> order_;
  std::vector<std::pair<std::string, std::map<std::string, double>>> limits_;  // name, counters
  std::map<std::string, std::vector<double>> rates_;                           // items a second, by benchmark
  std::map<std::string, std::vector<double>> disk_;   // "MB_on_disk_per_M", of those that count it
  std::map<std::string, std::vector<double>> times_;  // of those that count "ms": shown in place of the rate
};

// Access-log lines, the same every time.
const std::string& access_log();  // about 20 MB
const std::vector<std::string_view>& access_lines();
extern const char* const kAccessTemplate;  // 12 captures, typed values, event time
extern const char* const kAccessRegex;     // the same 12 groups

// A log, and what takes its lines apart.
struct AccessLog {
  const std::string& text;
  std::vector<std::string_view> lines;
  std::string templ, regex;
};
const AccessLog& plain_access_log();  // the one above
const AccessLog&
traced_access_log();  // with a trace id at the end of each line, as the demo's ticket gate writes it

}  // namespace dingle
