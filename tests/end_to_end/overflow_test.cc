// What each overflow policy promises at its limit, counted to the event; and the spool's other forms.
#include <gtest/gtest.h>

#include <atomic>
#include <filesystem>
#include <fstream>
#include <set>
#include <thread>

#include "tests/end_to_end/daemon.h"
#include "tests/end_to_end/service.h"

namespace dingle {
namespace {

using namespace std::chrono_literals;

// Takes nothing until it is let.
class Gate {
 public:
  std::mutex mutex;
  std::vector<long> numbers;
  std::atomic<bool> open{false};

 private:
  Service service_{[this](const HttpRequest& request, HttpAnswer& answer) {
    if (!open) return answer.status = 503, void();
    std::lock_guard lock(mutex);
    std::istringstream in(request.body);
    for (std::string line; std::getline(in, line);) numbers.push_back(Json::parse(line)["n"]);
  }};

 public:
  const int port = service_.port();
};

std::string configuration(int port, const std::string& queue) {
  return R"(
sources: { numbered: { files: { paths: ['{dir}/logs/*.log'] } } }
pipelines: { p: { from: [numbered], steps: [ parse: { templates: ['{n:int} {:rest}'] } ], to: [gate, store] } }
destinations:
  store: { index: {} }
  gate:
    http: { url: 'http://127.0.0.1:)" +
         std::to_string(port) + R"(/' }
    retry: { first: 10ms, longest: 50ms }
    batch: { events: 1000 }
    queue: )" +
         queue + "\n";
}

constexpr int kLines = 40'000;

void write_lines(Daemon& daemon) {
  for (int part = 0; part < 8; ++part) {
    std::string text;
    for (int n = part * kLines / 8; n < (part + 1) * kLines / 8; ++n)
      text += std::to_string(n) + " and some more text to make the line longer, and longer still\n";
    daemon.write("a.log", text);
    std::this_thread::sleep_for(60ms);
  }
}

struct Ended {
  Json gate, store, status;
};
Ended run(Gate& gate, const std::string& queue, bool kill) {
  Daemon daemon(configuration(gate.port, queue), "spool: { limit: 64MiB }");
  daemon.start();
  write_lines(daemon);
  EXPECT_TRUE(eventually([&] {  // the other destination gets all, whatever this one does
    const Json status = daemon.status();
    return find(status["destinations"], "store")["sent"] == kLines || status["paused"] == true;
  }));
  if (kill) {
    daemon.kill();
    daemon.start();
  }
  gate.open = true;
  Ended r;
  r.status = daemon.settled();
  r.gate = find(r.status["destinations"], "gate");
  r.store = find(r.status["destinations"], "store");
  return r;
}

class Overflow : public testing::TestWithParam<bool> {};

TEST_P(Overflow, PauseLosesNothing) {
  Gate gate;
  const Ended r = run(gate, "{ limit: 1MiB, overflow: pause }", GetParam());
  EXPECT_EQ(r.gate["sent"], kLines);
  EXPECT_EQ(r.gate["shed"], 0);
  EXPECT_EQ(r.store["sent"], kLines);
  EXPECT_TRUE(r.status["balanced"]);
  ASSERT_EQ(gate.numbers.size(), static_cast<std::size_t>(kLines));
  EXPECT_TRUE(std::is_sorted(gate.numbers.begin(), gate.numbers.end()));
}

TEST_P(Overflow, ShedNewestKeepsTheFirst) {
  Gate gate;
  const Ended r = run(gate, "{ limit: 1MiB, overflow: shed_newest }", GetParam());
  EXPECT_EQ(r.store["sent"], kLines) << "others lose nothing";
  EXPECT_GT(r.gate["shed"].get<int>(), 10'000);
  EXPECT_EQ(r.gate["sent"].get<int>() + r.gate["shed"].get<int>(), kLines);
  EXPECT_TRUE(r.status["balanced"]) << r.status["balance"];
  ASSERT_EQ(gate.numbers.size(), r.gate["sent"].get<std::size_t>());
  for (std::size_t i = 0; i < 1000; ++i) ASSERT_EQ(gate.numbers[i], static_cast<long>(i));
}

TEST_P(Overflow, ShedOldestKeepsTheLast) {
  Gate gate;
  const Ended r = run(gate, "{ limit: 1MiB, overflow: shed_oldest }", GetParam());
  EXPECT_EQ(r.store["sent"], kLines) << "others lose nothing";
  EXPECT_GT(r.gate["shed"].get<int>(), 10'000);
  EXPECT_EQ(r.gate["sent"].get<int>() + r.gate["shed"].get<int>(), kLines);
  EXPECT_TRUE(r.status["balanced"]) << r.status["balance"];
  ASSERT_EQ(gate.numbers.size(), r.gate["sent"].get<std::size_t>());
  EXPECT_EQ(gate.numbers.back(), kLines - 1);
  EXPECT_TRUE(std::is_sorted(gate.numbers.begin(), gate.numbers.end()));
  EXPECT_EQ(std::set<long>(gate.numbers.begin(), gate.numbers.end()).size(), gate.numbers.size());
}
INSTANTIATE_TEST_SUITE_P(WithAndWithoutAKill, Overflow, testing::Bool());

// One source feeds the gate, the other the store.
std::string two_sources(int port, const std::string& overflow) {
  return R"(
sources:
  gated: { files: { paths: ['{dir}/logs/gated.log'] } }
  free: { files: { paths: ['{dir}/logs/free.log'] } }
pipelines:
  gated: { from: [gated], steps: [ parse: { templates: ['{n:int} {:rest}'] } ], to: [gate] }
  free: { from: [free], to: [store] }
destinations:
  store: { index: {} }
  gate:
    http: { url: 'http://127.0.0.1:)" +
         std::to_string(port) + R"(/' }
    batch: { events: 100 }
    retry: { first: 10ms, longest: 50ms }
    queue: { limit: 1MiB, overflow: )" +
         overflow + " }\n";
}
std::string gated_lines(int lines) {
  std::string text;
  for (int n = 0; n < lines; ++n)
    text += std::to_string(n) + " and some more text to make the line longer, and longer still, " +
            std::string(130, 'x') + "\n";
  return text;
}
std::string free_lines(int lines) {
  std::string text;
  for (int n = 0; n < lines; ++n) text += "another line that is long enough to make large batches\n";
  return text;
}
// True once the destination's number is that.
bool reaches(Daemon& daemon, const char* destination, const char* what, int number) {
  return eventually([&] { return find(daemon.status()["destinations"], destination)[what] == number; });
}

TEST(OverflowOfOthers, ShedsNothing) {
  for (const char* overflow : {"shed_oldest", "shed_newest"}) {
    Gate gate;
    Daemon daemon(two_sources(gate.port, overflow));
    daemon.write("gated.log", gated_lines(4'000));  // the queue is nearly full
    daemon.start();
    EXPECT_TRUE(reaches(daemon, "gate", "waiting", 4'000));
    daemon.write("free.log", free_lines(40'000));
    EXPECT_TRUE(reaches(daemon, "store", "sent", 40'000));
    gate.open = true;
    const Json status = daemon.settled(), state = find(status["destinations"], "gate");
    EXPECT_EQ(state["shed"], 0) << overflow;
    EXPECT_EQ(state["sent"], 4'000) << overflow;
  }
}

TEST(OverflowOfOthers, PausesNobody) {
  Gate gate;
  Daemon daemon(two_sources(gate.port, "pause"));
  daemon.write("gated.log", gated_lines(20'000));
  daemon.start();
  EXPECT_TRUE(eventually([&] { return daemon.status()["paused"] == true; }));
  const Json during = daemon.status();
  EXPECT_EQ(find(during["sources"], "gated")["waits_for"], "gate") << during.dump();
  EXPECT_FALSE(find(during["sources"], "free").contains("waits_for"));
  EXPECT_LT(find(during["destinations"], "gate")["waiting_bytes"], 1.5 * (1 << 20));
  EXPECT_NE(daemon.dingle({"status"}).out.find("source gated waits for room in the queue of gate"),
            std::string::npos);
  daemon.write("free.log", free_lines(40'000));
  EXPECT_TRUE(reaches(daemon, "store", "sent", 40'000)) << daemon.status().dump();
  gate.open = true;
  const Json status = daemon.settled();
  EXPECT_EQ(find(status["destinations"], "gate")["sent"], 20'000);
  EXPECT_FALSE(status["paused"]);
  EXPECT_TRUE(std::is_sorted(gate.numbers.begin(), gate.numbers.end()));
}

TEST(SpoolKinds, CompressedAndInMemory) {
  for (const char* spool : {"spool: { compression: zstd }", "spool: { on: memory }"}) {
    Gate gate;
    Daemon daemon(configuration(gate.port, "{ limit: 16MiB }"), std::string(spool) + ", stop_within: 100ms");
    daemon.start();
    write_lines(daemon);
    daemon.terminate();  // with a full queue; in memory it is gone, and read again
    gate.open = true;
    daemon.start();
    const Json status = daemon.settled();
    std::lock_guard lock(gate.mutex);
    EXPECT_EQ(std::set<long>(gate.numbers.begin(), gate.numbers.end()).size(),
              static_cast<std::size_t>(kLines))
        << spool;
    EXPECT_TRUE(status["balanced"]) << spool << status["balance"];
  }
}

TEST(SpoolCommand, InspectsVerifiesAndRepairs) {
  Gate gate;
  Daemon daemon(configuration(gate.port, "{ limit: 16MiB }"));
  daemon.start();
  write_lines(daemon);
  EXPECT_NE(daemon.dingle({"spool"}).err.find("in use"), std::string::npos);
  daemon.kill();
  const Ran seen = daemon.dingle({"spool"});
  EXPECT_EQ(seen.status, 0) << seen.out << seen.err;
  EXPECT_NE(seen.out.find("gate"), std::string::npos);
  EXPECT_EQ(daemon.dingle({"spool", "verify"}).status, 0);
  // Some bytes in the middle are destroyed.
  std::string file;
  for (const auto& entry : std::filesystem::directory_iterator(daemon.dir + "/data/spool"))
    if (entry.file_size() > 500'000) file = entry.path();
  {
    std::fstream segment(file, std::ios::in | std::ios::out | std::ios::binary);
    segment.seekp(300'000);
    segment << "destroyed";
  }
  const Ran found = daemon.dingle({"spool", "verify"});
  EXPECT_EQ(found.status, 1);
  EXPECT_NE(found.out.find("damaged"), std::string::npos);
  const Ran repaired = daemon.dingle({"spool", "repair"});
  EXPECT_EQ(repaired.status, 0) << repaired.err;
  EXPECT_NE(repaired.out.find("1 damaged records"), std::string::npos) << repaired.out;
  gate.open = true;
  daemon.start();
  const Json status = daemon.settled();
  EXPECT_TRUE(status["balanced"]) << status["balance"];
  EXPECT_GT(gate.numbers.size(), 30'000u);
  EXPECT_LT(gate.numbers.size(), 40'000u);
}

}  // namespace
}  // namespace dingle
