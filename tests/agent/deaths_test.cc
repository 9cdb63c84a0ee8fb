#include "agent/engine/deaths.h"

#include <gtest/gtest.h>
#include <signal.h>
#include <sys/resource.h>
#include <sys/wait.h>
#include <unistd.h>

#include <filesystem>
#include <fstream>
#include <nlohmann/json.hpp>
#include <thread>

namespace dingle {
namespace {

SourceBatch batch_at(std::uint64_t stream, std::uint64_t position, const std::string& line) {
  SourceBatch batch;
  batch.source = "gate";
  auto resource = std::make_shared<Resource>();
  resource->add("log.file.path", "/var/log/skerry/gate.log");
  batch.slices = {{stream, resource}};
  auto buffer = std::make_shared<LineBuffer>(line.size());
  std::copy(line.begin(), line.end(), buffer->bytes.get());
  buffer->finish(line.size());
  batch.lines = {{{buffer->bytes.get(), line.size()}, position}};
  batch.buffer = buffer;
  return batch;
}

[[gnu::noinline]] int without_end(int depth) {
  volatile char room[512] = {};
  return depth == 0 ? 0 : without_end(depth + 1) + room[depth % 512];
}

#if defined(__has_feature)
constexpr bool kSanitized = __has_feature(address_sanitizer) || __has_feature(thread_sanitizer);
#else
constexpr bool kSanitized = false;
#endif

class DeathsTest : public testing::Test {
 protected:
  const std::string folder = testing::TempDir() + "/deaths-" + std::to_string(::getpid());
  void SetUp() override { std::filesystem::create_directories(folder); }
  void TearDown() override { std::filesystem::remove_all(folder); }
  // What a process of its own does with the batch; the signal that ended it.
  template <class F>
  int die(const SourceBatch& batch, F how) {
    const pid_t child = ::fork();
    if (child == 0) {
      const rlimit none{0, 0};
      ::setrlimit(RLIMIT_CORE, &none);
      std::thread([&] {
        const Deaths deaths(folder);
        const Deaths::Worker worker;
        const Deaths::Working working(batch);
        how();
      }).join();
      ::_exit(0);
    }
    int status = 0;
    ::waitpid(child, &status, 0);
    return WIFSIGNALED(status) ? WTERMSIG(status) : 0;
  }
};

TEST_F(DeathsTest, TwoByItsOwnFaultMakeABatchDeadly) {
  const SourceBatch batch = batch_at(7, 100, "poison");
  int how = 0;
  const std::pair<int, void (*)()> ways[] = {{SIGSEGV, [] { ::raise(SIGSEGV); }},
                                             {SIGABRT, [] { std::abort(); }},
                                             {SIGBUS, [] { ::raise(SIGBUS); }}};
  for (const auto& [signal, way] : ways) {
    EXPECT_EQ(Deaths(folder).deadly(batch), how++ >= 2);
    die(batch, way);
  }
  const Deaths deaths(folder);
  EXPECT_TRUE(deaths.deadly(batch));
  EXPECT_FALSE(deaths.deadly(batch_at(7, 107, "behind it")));
  EXPECT_FALSE(deaths.deadly(batch_at(8, 100, "another stream")));
  EXPECT_TRUE(deaths.deadly(batch_at(9, 0, "poison"))) << "sent again by a client";
}

TEST_F(DeathsTest, AUsedUpStackIsNoted) {
  if (kSanitized) GTEST_SKIP() << "the sanitizer's own handler reports it";
  const SourceBatch batch = batch_at(7, 100, "deep");
  for (int i = 0; i < 2; ++i) EXPECT_EQ(die(batch, [] { without_end(1); }), SIGSEGV);
  EXPECT_TRUE(Deaths(folder).deadly(batch));
}
TEST_F(DeathsTest, TheSignalTakesItsCourse) {
  if (kSanitized) GTEST_SKIP() << "the sanitizer's own handler reports it";
  const SourceBatch batch = batch_at(7, 100, "x");
  EXPECT_EQ(die(batch, [] { std::abort(); }), SIGABRT);
  EXPECT_EQ(die(batch, [] { *static_cast<volatile int*>(nullptr) = 1; }), SIGSEGV);
}

TEST_F(DeathsTest, KillsAreNotNoted) {
  const SourceBatch batch = batch_at(7, 100, "innocent");
  for (const int signal : {SIGKILL, SIGTERM, SIGKILL})
    EXPECT_EQ(die(batch, [&] { ::raise(signal); }), signal);
  EXPECT_FALSE(Deaths(folder).deadly(batch));
}

TEST_F(DeathsTest, NoiseInTheFileIsNoDeath) {
  std::ofstream(folder + "/deaths")
      << "\n\xff\n0000000000000007\n0000000000000007 zz\n\n0000000000000007 64 64\n"
      << std::string(5000, 'f') << "\n";
  EXPECT_FALSE(Deaths(folder).deadly(batch_at(7, 100, "x")));
}

TEST_F(DeathsTest, WhatIsSetApartIsWhole) {
  const Deaths deaths(folder);
  const std::string path = deaths.set_apart(batch_at(7, 100, "a \"line\"\x01"));
  EXPECT_EQ(deaths.set_apart(batch_at(7, 100, "a \"line\"\x01")), path);
  EXPECT_EQ(deaths.files_set_apart(), (std::vector<std::string>{path}));
  std::ifstream in(path);
  const auto json = nlohmann::json::parse(in);
  EXPECT_EQ(json["line"], "a \"line\"\x01");
  EXPECT_EQ(json["source"], "gate");
  EXPECT_EQ(json["log.file.path"], "/var/log/skerry/gate.log");
  EXPECT_EQ(json["position"], 100);
  EXPECT_EQ(std::filesystem::status(path).permissions(), std::filesystem::perms(0600));
}

}  // namespace
}  // namespace dingle
