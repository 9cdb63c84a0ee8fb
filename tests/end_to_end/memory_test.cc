// How much memory the program needs at full rate, and keeps once it has nothing to do.
#include <gtest/gtest.h>

#include <fstream>
#include <thread>

#include "tests/end_to_end/servers.h"

namespace dingle {
namespace {

using namespace std::chrono_literals;

// Of /proc/PID/status: VmRSS, what it has now; VmHWM, the most it had.
long mib(int pid, const std::string& what) {
  std::ifstream in("/proc/" + std::to_string(pid) + "/status");
  for (std::string name; in >> name;)
    if (long kib = 0; name == what + ":" && in >> kib) return kib / 1024;
  return -1;
}

TEST(Memory, IsBoundedInABurstAndGivenBackAfterIt) {
  if (daemon_program().find("release") == std::string::npos)
    GTEST_SKIP() << "sanitizers keep memory of their own";
  if (!PostgresServer::installed()) GTEST_SKIP() << "PostgreSQL is not installed";
  PostgresServer server;
  Daemon daemon(R"(
sources: { gate: { files: { paths: ['{dir}/logs/*.log'] } } }
pipelines:
  gate: { from: [gate], steps: [ parse: { templates: ['{ship:word} {n:int} {message}'] } ], to: [store, table] }
destinations:
  store: { index: {} }
  table: { postgres: { table: gate, columns: { n: int }, connect: ')" +
                server.connect() + "' } }\n");
  std::string lines;
  for (int n = 0; n < 1'000'000; ++n)
    lines += "Gannet " + std::to_string(n) + " is at berth " + std::to_string(n % 9) + " of the north quay\n";
  daemon.write("gate.log", lines);
  daemon.start();
  daemon.settled();
  EXPECT_LT(mib(daemon.pid(), "VmHWM"), 64);
  long resident = 0;
  for (int i = 0; i < 450 && (i == 0 || resident >= 16); ++i, std::this_thread::sleep_for(100ms))
    resident = mib(daemon.pid(), "VmRSS");
  EXPECT_LT(resident, 16);
}

}  // namespace
}  // namespace dingle
