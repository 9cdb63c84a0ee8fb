// Runs the benchmarks, and with --write=FILE puts the table of ratios there.
#include <algorithm>
#include <cstring>
#include <ctime>
#include <fstream>
#include <iostream>
#include <sstream>
#include <string>
#include <thread>
#include <vector>

#include "bench/report.h"

namespace {

std::string processor() {
  std::ifstream in("/proc/cpuinfo");
  for (std::string line; std::getline(in, line);)
    if (line.starts_with("model name")) return line.substr(line.find(':') + 2);
  return "unknown";
}

// Of all processors since the system's start: the time that the hypervisor gave to others, and all of it.
struct ProcessorTime {
  double stolen = 0, all = 0;
};
ProcessorTime processor_time() {
  ProcessorTime time;
  std::ifstream in("/proc/stat");
  in.ignore(4);
  double part = 0;
  for (int i = 0; i < 8 && in >> part; ++i) time.all += part, time.stolen = part;
  return time;
}

// What takes so long and so much room that it is done only when it is named.
constexpr const char* kHuge = "100 million events";

// What is compared with each other, of the benchmarks that were asked for: names without "/ours" and
// "/baseline...".
std::vector<std::string> groups() {
  std::ostringstream names;
  benchmark::ConsoleReporter lister;
  lister.SetOutputStream(&names);
  auto set = [](const char* flag) {
    static char name[] = "dingle_bench";  // kept by the library
    std::string text = flag;
    char* arguments[] = {name, text.data(), nullptr};
    int n = 2;
    benchmark::Initialize(&n, arguments);
  };
  set("--benchmark_list_tests=true");
  benchmark::RunSpecifiedBenchmarks(&lister, benchmark::GetBenchmarkFilter());
  set("--benchmark_list_tests=false");
  std::vector<std::string> all;
  std::istringstream in(names.str());
  for (std::string name; std::getline(in, name);) {
    name.resize(std::min({name.find("/ours"), name.find("/baseline"), name.find("/limits"), name.size()}));
    if (name.starts_with(kHuge) && benchmark::GetBenchmarkFilter().find(kHuge) == std::string::npos) continue;
    if (std::find(all.begin(), all.end(), name) == all.end()) all.push_back(name);
  }
  return all;
}

std::string literally(const std::string& text) {  // as a regular expression
  std::string out;
  for (char c : text)
    (std::string_view("()[]{}*+?.|^$\\").find(c) == std::string_view::npos ? out : out += '\\') += c;
  return out;
}

}  // namespace

int main(int argc, char** argv) {
  std::string file;
  for (int i = 1; i < argc; ++i)
    if (std::strncmp(argv[i], "--write=", 8) == 0) {
      file = argv[i] + 8;
      std::copy(argv + i + 1, argv + argc, argv + i);
      --argc;
      break;
    }
  const bool lists = std::any_of(argv, argv + argc, [](const char* argument) {
    return std::strncmp(argument, "--benchmark_list_tests", 22) == 0;
  });
  benchmark::Initialize(&argc, argv);
  if (benchmark::ReportUnrecognizedArguments(argc, argv)) return 2;
  if (lists) {
    for (const std::string& group : groups()) std::cout << group << "\n";
    return 0;
  }
  dingle::RatioReporter reporter;
  // One group after another: what is compared is measured within the same minutes, as the machine is then.
  for (const std::string& group : groups()) {
    const ProcessorTime before = processor_time();
    benchmark::RunSpecifiedBenchmarks(&reporter, "^" + literally(group) + "/");
    const ProcessorTime after = processor_time();
    reporter.stolen[group] = (after.stolen - before.stolen) / std::max(1.0, after.all - before.all);
  }
  std::cout << "\n" << reporter.table();
  if (file.empty()) return 0;
  char date[32];
  const std::time_t now = std::time(nullptr);
  std::strftime(date, sizeof date, "%Y-%m-%d", std::gmtime(&now));
  std::ofstream(file) << "# Benchmarks\n\nWritten by `scripts/bench` on " << date << "; " << processor()
                      << ", " << std::thread::hardware_concurrency()
                      << " cores. Rates are medians of interleaved runs; a ratio compares two medians of the "
                         "same minutes, and only ratios carry over to other machines. Stolen: the share of "
                         "processor time that the hypervisor gave to others meanwhile; where it is high, "
                         "what needs both processors loses most.\n\n"
                      << reporter.table()
                      << "\nWhat each line measures is said above its code in `bench/`.\n";
}
