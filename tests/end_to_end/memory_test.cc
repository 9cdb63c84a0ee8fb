// How much memory the program keeps once it has nothing to do.
#include <gtest/gtest.h>

#include <fstream>
#include <thread>

#include "tests/end_to_end/daemon.h"

namespace dingle {
namespace {

using namespace std::chrono_literals;

long resident_mib(int pid) {
  std::ifstream in("/proc/" + std::to_string(pid) + "/statm");
  long all = 0, pages = 0;
  in >> all >> pages;
  return pages / 256;
}

TEST(Memory, IsGivenBackAfterABurst) {
  if (daemon_program().find("release") == std::string::npos)
    GTEST_SKIP() << "sanitizers keep memory of their own";
  Daemon daemon(
      "sources: { gate: { files: { paths: ['{dir}/logs/*.log'] } } }\npipelines: { gate: { from: [gate], "
      "steps: [ "
      "parse: { templates: ['ship={ship:word} berth={berth:word} n={n:int}'] } ], to: [a, b] } "
      "}\ndestinations: { a: { "
      "index: {} }, b: { files: { path: '{dir}/out/gate.ndjson' } } }\n");
  std::string lines;
  for (int n = 0; n < 200'000; ++n)
    lines += "ship=Gannet berth=NQ-0" + std::to_string(n % 9) + " n=" + std::to_string(n) + "\n";
  daemon.write("gate.log", lines);
  daemon.start();
  daemon.settled();
  long resident = 0;
  for (int i = 0; i < 450 && (i == 0 || resident >= 16); ++i, std::this_thread::sleep_for(100ms))
    resident = resident_mib(daemon.pid());
  EXPECT_LT(resident, 16) << "MiB";
}

}  // namespace
}  // namespace dingle
