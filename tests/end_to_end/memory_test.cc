// How much memory the program needs at full rate, and keeps once it has nothing to do.
#include <gtest/gtest.h>

#include <fstream>
#include <thread>

#include "tests/end_to_end/servers.h"
#include "tests/net/raw_client.h"

namespace dingle {
namespace {

using namespace std::chrono_literals;

// Of /proc/PID/status: VmRSS, what it has now; VmHWM, the most it had.
long kib(int pid, const std::string& what) {
  std::ifstream in("/proc/" + std::to_string(pid) + "/status");
  for (std::string name; in >> name;)
    if (long n = 0; name == what + ":" && in >> n) return n;
  return -1;
}
long mib(int pid, const std::string& what) { return kib(pid, what) / 1024; }

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

// Who shows no token costs no more than 64 KiB, whatever it sends.
struct Attack {
  const char *name, *head;
};
class MemoryOfStrangers : public testing::TestWithParam<Attack> {};
TEST_P(MemoryOfStrangers, IsBounded) {
  if (daemon_program().find("release") == std::string::npos)
    GTEST_SKIP() << "sanitizers keep memory of their own";
  Daemon daemon(
      "sources: { gate: { files: { paths: ['{dir}/logs/*.log'] } } }\npipelines: { p: { from: [gate], to: "
      "[d] } }\n"
      "destinations: { d: { nowhere: {} } }\n");
  daemon.start();
  constexpr int kAtOnce = 8;
  const auto attack = [&] {
    std::vector<std::thread> strangers;
    for (int i = 0; i < kAtOnce; ++i)
      strangers.emplace_back([&] {
        RawClient stranger(daemon.address());
        if (!stranger.send(GetParam().head)) return;
        const std::string piece(64 * 1024, 'x');
        for (int sent = 0; sent < 16 * 1024 && stranger.send(piece); ++sent) {  // 1 GiB, if it is let
        }
      });
    for (std::thread& s : strangers) s.join();
  };
  attack();  // what is there once for all
  const long before = kib(daemon.pid(), "VmRSS");
  std::ofstream("/proc/" + std::to_string(daemon.pid()) + "/clear_refs") << "5";  // the peak begins anew
  attack();
  EXPECT_LE(kib(daemon.pid(), "VmHWM") - before, 64 * kAtOnce);
  EXPECT_TRUE(daemon.status().contains("balanced"));
}
INSTANTIATE_TEST_SUITE_P(
    Sends, MemoryOfStrangers,
    testing::Values(
        Attack{"ALineWithoutEnd", "GET /"},
        Attack{"AFieldWithoutEnd", "POST /healthz HTTP/1.1\r\nHost: 127.0.0.1\r\nX: "},
        Attack{"AChunkWithoutEnd",
               "POST /healthz HTTP/1.1\r\nHost: 127.0.0.1\r\nTransfer-Encoding: chunked\r\n\r\nFFFFFFFF\r\n"},
        Attack{"AnExtensionWithoutEnd",
               "POST /healthz HTTP/1.1\r\nHost: 127.0.0.1\r\nTransfer-Encoding: chunked\r\n\r\n1;"},
        Attack{"ABodyOf1GiB",
               "POST /v1/try HTTP/1.1\r\nHost: 127.0.0.1\r\nContent-Length: 1073741824\r\n\r\n"}),
    [](const auto& attack) { return attack.param.name; });

}  // namespace
}  // namespace dingle
