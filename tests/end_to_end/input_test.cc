// What files may hold, and what may happen to them.
#include <gtest/gtest.h>
#include <unistd.h>

#include <chrono>
#include <filesystem>
#include <thread>

#include "tests/end_to_end/daemon.h"

namespace dingle {
namespace {

using namespace std::chrono_literals;

const char* kRaw = R"(
sources:
  raw: { files: { paths: ['{dir}/logs/*.log'], unfinished_after: 300ms } }
pipelines:
  raw: { from: [raw], to: [store] }
destinations:
  store: { index: { name: raw } }
)";

TEST(Input, AnyBytesAreKeptAndCounted) {
  Daemon daemon(kRaw);
  daemon.write("a.log", std::string("good\nb\xff\xfe"
                                    "d\nnul\0here\n\n\r\nlast without newline",
                                    40));
  daemon.start();
  EXPECT_TRUE(eventually([&] { return daemon.status()["sources"][0]["events"] == 4; }));
  const Json source = daemon.settled()["sources"][0];
  EXPECT_EQ(source["events"], 4);
  EXPECT_EQ(source["empty"], 2);
  EXPECT_EQ(source["invalid_utf8"], 1);
  const auto events = daemon.events();
  ASSERT_EQ(events.size(), 4u);
  EXPECT_EQ(events[1]["body"],
            "b\xEF\xBF\xBD\xEF\xBF\xBD"
            "d");
  EXPECT_EQ(events[2]["body"], std::string("nul\0here", 8));
  EXPECT_NE(daemon.dingle({"status"}).out.find("not valid UTF-8"), std::string::npos);
}

TEST(Input, LinesOfTenMegabytesAreCut) {
  Daemon daemon(kRaw);
  daemon.write("a.log", "before\n" + std::string(10'000'000, 'x') + "\nafter\n");
  daemon.start();
  const Json source = daemon.settled()["sources"][0];
  EXPECT_EQ(source["events"], 3);
  EXPECT_EQ(source["cut"], 1);
  EXPECT_EQ(source["cut_bytes"], 10'000'000 - (1 << 20));
  const auto events = daemon.events();
  ASSERT_EQ(events.size(), 3u);
  EXPECT_EQ(events[1]["body"].get<std::string>().size(), 1u << 20);
  EXPECT_EQ(events[2]["body"], "after");
}

TEST(Input, TruncatedFileIsReadFromItsBeginning) {
  Daemon daemon(kRaw);
  daemon.write("a.log", "one\ntwo\nthree\n");
  daemon.start();
  daemon.settled();
  daemon.write("a.log", "four\n", false);
  EXPECT_TRUE(eventually([&] { return daemon.status()["sources"][0]["events"] == 4; }));
  daemon.write("a.log", "five\n");
  const Json source = daemon.settled()["sources"][0];
  EXPECT_EQ(source["events"], 5);
  EXPECT_EQ(source["truncated"], 1);
}

TEST(Input, CopiedAndTruncatedToALongerFileIsNoticed) {
  Daemon daemon(kRaw);
  daemon.write("a.log", "one\n");
  daemon.start();
  daemon.settled();
  daemon.kill();
  daemon.write("a.log", "uno\ndos\ntres\n", false);  // the same inode, more bytes, other contents
  daemon.start();
  const Json source = daemon.settled()["sources"][0];
  EXPECT_EQ(source["events"], 4);
  EXPECT_EQ(source["replaced"], 1);
}

TEST(Input, FileWrittenAnewWithTheSameSizeIsNoticed) {
  Daemon daemon(kRaw);
  daemon.write("a.log", "one\ntwo\n");
  daemon.start();
  daemon.settled();
  daemon.write("a.log", "six\nten\n", false);
  EXPECT_TRUE(eventually([&] { return daemon.status()["sources"][0]["events"] == 4; }));
}

TEST(Input, DeletedFileIsReadToItsEnd) {
  Daemon daemon(kRaw);
  std::string text;
  for (int i = 0; i < 100'000; ++i) text += "line " + std::to_string(i) + "\n";
  daemon.write("a.log", text);
  daemon.start();
  EXPECT_TRUE(eventually([&] { return daemon.status()["sources"][0]["open"] != 0; }));
  std::filesystem::remove(daemon.path("a.log"));
  EXPECT_EQ(daemon.settled()["sources"][0]["events"], 100'000);
}

TEST(Input, UnreadablePathsAreAProblemUntilTheyCanBeRead) {
  Daemon daemon(kRaw);
  daemon.write("good.log", "one\n");
  std::filesystem::create_symlink("loop.log", daemon.path("loop.log"));
  daemon.start();
  daemon.problem();
  Json status = daemon.settled();
  ASSERT_EQ(status["problems"].size(), 1u);
  EXPECT_NE(status["problems"][0]["about"].get<std::string>().find("loop.log"), std::string::npos);
  EXPECT_EQ(daemon.dingle({"status"}).status, 1);
  std::filesystem::remove(daemon.path("loop.log"));
  daemon.write("loop.log", "two\n");
  EXPECT_TRUE(eventually([&] {
    status = daemon.status();
    return status["problems"].empty() && status["sources"][0]["events"] == 2;
  })) << status.dump();
}

TEST(Input, NewFilesAreFoundWhileRunning) {
  Daemon daemon(kRaw);
  daemon.start();
  EXPECT_NE(daemon.problem().find("no file matches"), std::string::npos);
  daemon.write("later.log", "here\n");
  Json status;
  EXPECT_TRUE(eventually([&] {
    status = daemon.status();
    return status["problems"].empty() && status["sources"][0]["events"] == 1;
  })) << status.dump();
}

TEST(Input, StackTracesAreOneEvent) {
  Daemon daemon(R"(
sources:
  app: { files: { paths: ['{dir}/logs/*.log'], join: { starts_with: '{:rfc3339} ', wait: 300ms } } }
pipelines:
  app: { from: [app], steps: [ parse: { templates: ['{at:rfc3339} {severity:level} {message:line}{[}{:/\n/}{trace:rest}{]}'] }, time: { field: at } ], to: [store] }
destinations:
  store: { index: { name: 'app-{day}' } }
)");
  daemon.write("a.log",
               "2026-11-21 08:00:00,5 ERROR it broke\nboom\n\tat a.b\n2026-11-21 08:00:01,0 INFO fine\n");
  daemon.start();
  EXPECT_TRUE(eventually([&] { return daemon.status()["sources"][0]["events"] == 2; }));
  const Json status = daemon.settled();
  EXPECT_EQ(status["sources"][0]["joined"], 2);
  const auto events = daemon.events();
  ASSERT_EQ(events.size(), 2u);
  EXPECT_EQ(events[0]["trace"], "boom\n\tat a.b");
  EXPECT_EQ(events[0]["timestamp"], "2026-11-21T08:00:00.500Z");
  EXPECT_EQ(events[0]["severity_number"], 17);
  EXPECT_NE(daemon.dingle({"indexes"}).out.find("app-2026-11-21"), std::string::npos);
}

}  // namespace
}  // namespace dingle
