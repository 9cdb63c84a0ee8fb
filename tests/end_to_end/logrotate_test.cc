// The real logrotate, in every mode, while lines are written.
#include <fcntl.h>
#include <gtest/gtest.h>
#include <unistd.h>

#include <atomic>
#include <filesystem>
#include <fstream>
#include <set>

#include "tests/end_to_end/daemon.h"

namespace dingle {
namespace {

using namespace std::chrono_literals;

struct Mode {
  const char *name, *options;
  bool truncates = false;  // what is written between copy and cut is lost to everybody
};
class Logrotate : public testing::TestWithParam<Mode> {};

TEST_P(Logrotate, LosesAndDoublesNothing) {
  const char* const program = "/usr/sbin/logrotate";
  if (!std::filesystem::exists(program)) GTEST_SKIP() << "logrotate is not installed";
  Daemon daemon(R"(
sources:
  gate: { files: { paths: ['{dir}/logs/gate.log*'], join: { indented: true } } }
pipelines:
  gate: { from: [gate], steps: [ { parse: { templates: ['line {n:int}', 'line {n:int}{:rest}'] } } ], to: [store] }
destinations:
  store: { index: { name: gate } }
)");
  std::filesystem::permissions(daemon.dir + "/logs", std::filesystem::perms(0755));
  const std::string configuration = daemon.dir + "/logrotate.conf";
  std::ofstream(configuration) << daemon.path("gate.log") << " {\n  rotate 100\n  nomail\n  missingok\n  "
                               << GetParam().options << "\n}\n";
  std::filesystem::permissions(configuration, std::filesystem::perms(0644));
  std::atomic<bool> stopping{false};
  std::atomic<int> written{0};
  daemon.start();
  // As a program does that opens its log anew whenever it was rotated.
  std::thread writer([&] {
    while (!stopping) {
      const int fd = ::open(daemon.path("gate.log").c_str(), O_WRONLY | O_CREAT | O_APPEND, 0644);
      for (int i = 0; i < 3; ++i) {
        std::string line = "line " + std::to_string(written) + (written % 7 == 0 ? "\n  and more\n" : "\n");
        if (::write(fd, line.data(), line.size()) == static_cast<ssize_t>(line.size())) ++written;
      }
      ::close(fd);
      std::this_thread::sleep_for(1ms);
    }
  });
  for (int i = 0; i < 4; ++i) {
    const int before = written;
    EXPECT_TRUE(eventually([&] { return written > before + 300; }));
    EXPECT_TRUE(
        eventually([&] {  // rotated more often than it is looked at, a copy may be taken for another file
          return daemon.status()["sources"][0]["lines"] >= before;
        }));
    Ran ran;  // not twice to one name
    EXPECT_TRUE(eventually([&] {
      ran = run_program({program, "--force", "--state", daemon.dir + "/state", configuration});
      return ran.status == 0;
    })) << ran.err;
  }
  stopping = true;
  writer.join();
  daemon.settled();
  std::vector<int> numbers;
  for (const Json& e : daemon.events("n >= 0")) numbers.push_back(e["n"].get<int>());
  const std::set<int> distinct(numbers.begin(), numbers.end());
  EXPECT_EQ(distinct.size(), numbers.size()) << "doubled";
  if (!GetParam().truncates) {
    EXPECT_EQ(static_cast<int>(distinct.size()), written);
    EXPECT_TRUE(std::is_sorted(numbers.begin(), numbers.end())) << "out of order";
  } else {
    EXPECT_GT(static_cast<int>(distinct.size()), written * 8 / 10) << "more than the truncation itself takes";
  }
}
INSTANTIATE_TEST_SUITE_P(Modes, Logrotate,
                         testing::Values(Mode{"renames_and_creates", "create"}, Mode{"renames", "nocreate"},
                                         Mode{"names_by_date", "create\n  dateext\n  dateformat .%s"},
                                         Mode{"compresses_later", "create\n  compress\n  delaycompress"},
                                         Mode{"copies_and_truncates", "copytruncate", true}),
                         [](const auto& mode) { return mode.param.name; });

}  // namespace
}  // namespace dingle
