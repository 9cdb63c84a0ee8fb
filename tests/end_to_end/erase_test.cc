// Erasing: what was erased stands in no file of the data folder any more.
#include <gtest/gtest.h>
#include <zstd.h>

#include <atomic>
#include <filesystem>
#include <fstream>

#include "net/coding.h"
#include "store/sqlite.h"
#include "tests/end_to_end/daemon.h"
#include "tests/end_to_end/service.h"

namespace dingle {
namespace {

constexpr const char* kCard = "4929003456781237";

class Erasing : public testing::Test {
 protected:
  std::atomic<bool> down{false};
  Service service{[this](const HttpRequest& request, HttpAnswer& answer) {
    if (down)
      answer.status = 503;
    else if (request.body.find("refuse") != std::string::npos)
      answer.status = 422;
  }};
  Daemon daemon{R"(
sources: { gate: { files: { paths: ['{dir}/logs/*.log'] } } }
pipelines:
  gate: { from: [gate], steps: [ { parse: { templates: ['{ship} {card} {n:int}'] } } ], to: [store, d] }
destinations:
  store: { index: { name: 'gate-{day}' } }
  d: { http: { url: ')" +
                service.url() +
                R"(' }, retry: { first: 10ms, longest: 50ms } }
)"};

  // The files in which the bytes stand.
  std::vector<std::string> holding(const std::string& bytes) const {
    std::vector<std::string> all;
    for (const auto& entry : std::filesystem::recursive_directory_iterator(daemon.dir + "/data"))
      if (entry.is_regular_file() && read_file(entry.path()).find(bytes) != std::string::npos)
        all.push_back(entry.path());
    return all;
  }
  std::string index() const {
    for (const auto& entry : std::filesystem::recursive_directory_iterator(daemon.dir + "/data/indexes"))
      if (entry.path().extension() == ".index") return entry.path();
    return "";
  }
  // Columns of the index in which the card stands, as they are in its files.
  std::vector<std::string> chunks() const {
    std::vector<std::string> all;
    Connection connection(index(), SQLITE_OPEN_READONLY | SQLITE_OPEN_NOMUTEX);
    Statement s(connection.get(), "SELECT data FROM stored_chunk");
    while (s.step()) {
      const auto text = decompress_zstd(s.blob(0), 64 << 20);
      EXPECT_TRUE(text);
      if (text->find(kCard) != std::string::npos) all.push_back(s.blob(0));
    }
    return all;
  }
  std::string erased(std::vector<std::string> more = {}) {
    std::vector<std::string> all{"erase", std::string("card = '") + kCard + "'"};
    all.insert(all.end(), more.begin(), more.end());
    const Ran ran = daemon.dingle(all);
    EXPECT_EQ(ran.status, 0) << ran.err;
    return ran.out;
  }
};

TEST_F(Erasing, WhatWasErasedStandsInNoFileOfTheDataFolder) {
  daemon.start();
  std::string lines;
  for (int i = 0; i < 3000; ++i)
    lines += (i % 7 ? "Tern " : "refuse ") +
             (i % 100 == 50 ? std::string(kCard) : "card" + std::to_string(i * 7919)) + " " +
             std::to_string(i) + "\n";
  daemon.write("gate.log", lines);
  daemon.settled();
  daemon.write("gate.log", lines);  // a second time: blocks are merged, and what they were stays behind
  daemon.settled();
  EXPECT_EQ(daemon.dingle({"rerun", std::string("card = '") + kCard + "'", "--dry"}).status, 0);
  ASSERT_EQ(daemon.dingle({"samples", "keep", "cards", "--source", "gate", "--newest", "500"}).status, 0);
  const auto before = holding(kCard);
  EXPECT_GE(before.size(), 4u) << Json(before);  // the spool, letters, the saved lines, and jobs
  const std::vector<std::string> compressed = chunks();
  EXPECT_FALSE(compressed.empty());

  EXPECT_EQ(erased({"--dry"}).substr(0, 61),
            "would be erased: 60 events, 8 dead letters, 5 saved lines\n\nIN");
  EXPECT_EQ(daemon.events(std::string("card = '") + kCard + "'").size(), 60u);
  const std::string told = erased();
  EXPECT_EQ(told.substr(0, 52), "erased: 60 events, 8 dead letters, 5 saved lines\n\nIN") << told;
  EXPECT_NE(told.find("- the destination d: the same pipelines send there"), std::string::npos) << told;
  EXPECT_NE(told.find("/logs/gate.log, from which they were read"), std::string::npos) << told;
  EXPECT_EQ(holding(kCard), std::vector<std::string>());
  EXPECT_TRUE(chunks().empty());
  for (const std::string& chunk : compressed)
    for (std::size_t at = 0; at + 48 <= chunk.size(); at += 48)
      EXPECT_EQ(holding(chunk.substr(at, 48)), std::vector<std::string>()) << at << " of " << chunk.size();
  EXPECT_EQ(daemon.events(std::string("mentions '") + kCard + "'").size(), 0u);
  EXPECT_EQ(daemon.events().size(), 5940u);
  const Json status = daemon.settled();
  EXPECT_TRUE(status["balanced"]) << status["balance"];
  EXPECT_EQ(find(status["destinations"], "store")["erased_events"], 60);
  // What stays goes on as it was, also over a kill.
  daemon.kill();
  daemon.start();
  daemon.write("gate.log", "Tern card 9999\n");
  EXPECT_TRUE(daemon.settled()["balanced"]);
  EXPECT_EQ(daemon.events().size(), 5941u);
}

TEST_F(Erasing, ItWaitsForWhoeverStillHasToSendThem) {
  daemon.start();
  daemon.write("gate.log", std::string("Tern ") + kCard + " 1\n");
  daemon.settled();
  down = true;
  daemon.write("gate.log", std::string("Tern ") + kCard + " 2\n");
  EXPECT_TRUE(eventually([&] { return find(daemon.status()["destinations"], "store")["sent"] == 2; }));
  ASSERT_EQ(daemon.dingle({"erase", "--all", "--no-wait"}).status, 0);
  const auto job = [&] { return Json::parse(daemon.dingle({"jobs", "-o", "json"}).out).at(0); };
  EXPECT_TRUE(eventually([&] { return job()["result"].value("waits_for", "") == "d"; }));
  EXPECT_EQ(daemon.events().size(), 0u);
  daemon.kill();  // it goes on
  daemon.start();
  EXPECT_TRUE(eventually([&] { return job()["result"].value("waits_for", "") == "d"; }));
  daemon.write("gate.log", std::string("Tern ") + kCard + " 3\n");  // newer than the job
  EXPECT_TRUE(eventually([&] { return daemon.events().size() == 1; }));
  EXPECT_EQ(daemon.dingle({"jobs", "stop", "1"}).status, 0);
  EXPECT_TRUE(eventually([&] { return job()["state"] == "stopped"; }));
}

TEST_F(Erasing, WhatIsAskedWronglyIsRefused) {
  daemon.start();
  EXPECT_NE(daemon.dingle({"erase"}).err.find("which events?"), std::string::npos);
  EXPECT_NE(daemon.dingle({"erase", "--all", "--destination", "d"}).err.find("there is no destination `d`"),
            std::string::npos);
  EXPECT_EQ(erased().substr(0, 10), "erased: 0 ");
}

}  // namespace
}  // namespace dingle
