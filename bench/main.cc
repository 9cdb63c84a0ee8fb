// Runs the benchmarks, and with --write=FILE puts the table of ratios there.
#include <cstring>
#include <ctime>
#include <fstream>
#include <iostream>
#include <thread>

#include "bench/report.h"

namespace {

std::string processor() {
  std::ifstream in("/proc/cpuinfo");
  for (std::string line; std::getline(in, line);)
    if (line.starts_with("model name")) return line.substr(line.find(':') + 2);
  return "unknown";
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
  benchmark::Initialize(&argc, argv);
  if (benchmark::ReportUnrecognizedArguments(argc, argv)) return 2;
  dingle::RatioReporter reporter;
  benchmark::RunSpecifiedBenchmarks(&reporter);
  std::cout << "\n" << reporter.table();
  if (file.empty()) return 0;
  char date[32];
  const std::time_t now = std::time(nullptr);
  std::strftime(date, sizeof date, "%Y-%m-%d", std::gmtime(&now));
  std::ofstream(file) << "# Benchmarks\n\nWritten by `scripts/bench` on " << date << "; " << processor()
                      << ", " << std::thread::hardware_concurrency()
                      << " cores. Rates are medians of interleaved runs; a ratio compares two medians of the "
                         "same run, and only ratios carry over to other machines.\n\n"
                      << reporter.table()
                      << "\nWhat each line measures is said above its code in `bench/`.\n";
}
