// The files destination.
#include <gtest/gtest.h>
#include <sys/file.h>
#include <unistd.h>

#include <filesystem>
#include <fstream>
#include <thread>

#include "tests/end_to_end/gate.h"
#include "tests/end_to_end/servers.h"

namespace dingle {
namespace {

using namespace std::chrono_literals;

TEST(FilesDestination, WritesRotatesAndCompresses) {
  Daemon daemon(gate_configuration(
      "    files: { path: '{dir}/out/{service.name}-{day}.ndjson', compression: gzip, rotate: "
      "{ idle: 100ms } }\n"));
  daemon.write("gate.log", gate_lines(30));
  daemon.start();
  daemon.settled();
  const std::string file = daemon.dir + "/out/ticket-gate-2026-11-21.ndjson.gz";
  EXPECT_TRUE(eventually([&] { return std::filesystem::exists(file); }));
  Ran text = run_program({"/bin/zcat", file});
  std::istringstream in(text.out);
  int n = 0;
  for (std::string l; std::getline(in, l); ++n) EXPECT_EQ(Json::parse(l)["status"].get<int>() % 3, 1);
  EXPECT_EQ(n, 10);
  // What comes later gets a file of its own; nothing is written over.
  daemon.write("gate.log", gate_line(31));
  const std::string second = daemon.dir + "/out/ticket-gate-2026-11-21.2.ndjson.gz";
  EXPECT_TRUE(eventually([&] { return std::filesystem::exists(second); }));
}

TEST(FilesDestination, CsvWithAHead) {
  Daemon daemon(gate_configuration(
      "    files: { path: '{dir}/out/gate.csv', form: csv, events: { fields: [timestamp, user, "
      "status], rename: { user: who }, time: sql } }\n"));
  daemon.write("gate.log", gate_line(1, "a,\"b\"") + gate_line(2));
  daemon.start();
  daemon.settled();
  std::string all = read_file(daemon.dir + "/out/gate.csv.part");
  EXPECT_EQ(
      all, "timestamp,who,status\r\n2026-11-21 10:00:01,\"a,\"\"b\"\"\",1\r\n2026-11-22 10:00:02,anna,2\r\n");
}

TEST(FilesDestination, UnfinishedFilesAreFinishedAfterARestart) {
  const std::string file = "/out/gate-2026-11-21.ndjson";
  Daemon daemon(
      gate_configuration("    files: { path: '{dir}/out/gate-{day}.ndjson', rotate: { idle: 300ms } }\n"));
  daemon.write("gate.log", gate_line(1));
  daemon.start();
  EXPECT_TRUE(eventually([&] { return std::filesystem::exists(daemon.dir + file + ".part"); }));
  daemon.kill();
  daemon.start();  // and nothing is written to it any more
  EXPECT_TRUE(eventually([&] { return std::filesystem::exists(daemon.dir + file); }));
  EXPECT_FALSE(std::filesystem::exists(daemon.dir + file + ".part"));
}

TEST(FilesDestination, AFileThatAnotherProgramWritesIsLeftAlone) {
  Daemon daemon(gate_configuration("    files: { path: '{dir}/out/gate.txt', form: body }\n"));
  std::filesystem::create_directories(daemon.dir + "/out");
  const std::string part = daemon.dir + "/out/gate.txt.part", torn = "a line that is just being wri";
  const int fd = ::open(part.c_str(), O_RDWR | O_CREAT | O_CLOEXEC, 0600);
  ASSERT_EQ(::flock(fd, LOCK_EX), 0);
  ASSERT_EQ(::write(fd, torn.data(), torn.size()), static_cast<ssize_t>(torn.size()));
  daemon.write("gate.log", gate_line(1));
  daemon.start();
  EXPECT_NE(daemon.problem().find("another program is writing it"), std::string::npos) << daemon.problem();
  EXPECT_EQ(std::filesystem::file_size(part), torn.size());
  ::close(fd);
  daemon.settled();
  EXPECT_EQ(std::filesystem::file_size(part), gate_line(1).size()) << "then what is torn is cut off";
}

TEST(FilesDestination, ATornEndIsCutOff) {
  Daemon daemon(
      gate_configuration("    files: { path: '{dir}/out/gate.txt', form: body, compression: zstd }\n"));
  daemon.write("gate.log", gate_line(1));
  daemon.start();
  daemon.settled();
  daemon.kill();
  std::ofstream(daemon.dir + "/out/gate.txt.zst.part", std::ios::app) << "\x28\xb5\x2f\xfdtorn";
  daemon.write("gate.log", gate_line(2));
  daemon.start();
  daemon.settled();
  EXPECT_EQ(run_program({"/usr/bin/zstd", "-dcq", daemon.dir + "/out/gate.txt.zst.part"}).out,
            gate_line(1) + gate_line(2));
}

TEST(FilesDestinationNames, WhatIsTooLongIsSetAside) {
  Daemon daemon(gate_configuration("    files: { path: '{dir}/out/{user}{user}{user}.ndjson' }\n"));
  daemon.write("gate.log", gate_line(1, std::string(100, 'x')) + gate_line(2));
  daemon.start();
  const Json status = daemon.settled();
  EXPECT_EQ(find(status["destinations"], "d")["letters"], 1);
  EXPECT_EQ(find(status["destinations"], "d")["sent"], 1);
}

}  // namespace
}  // namespace dingle
