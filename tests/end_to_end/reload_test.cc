// Changing the configuration of a running program.
#include <gtest/gtest.h>
#include <signal.h>
#include <sys/stat.h>

#include <atomic>
#include <chrono>
#include <filesystem>
#include <fstream>
#include <thread>

#include "net/http.h"
#include "tests/end_to_end/caller.h"
#include "tests/end_to_end/daemon.h"
#include "tests/end_to_end/gate.h"
#include "tests/net/raw_client.h"

namespace dingle {
namespace {

using namespace std::chrono_literals;

TEST(Reload, TakesOnlyWhatIsSound) {
  Daemon daemon(kStoredGate);
  daemon.write("a.log", "192.0.2.1 200 before\n");
  daemon.start();
  const Json before = daemon.settled();
  std::string text = kStoredGate;
  text.replace(text.find("status:int"), 10, "status:itn");
  daemon.configure(text);
  Ran ran = daemon.dingle({"reload"});
  EXPECT_EQ(ran.status, 1);
  EXPECT_NE(ran.out.find("unknown pattern `itn`"), std::string::npos) << ran.out;
  EXPECT_EQ(daemon.status()["configuration"], before["configuration"]);
  daemon.write("a.log", "192.0.2.1 200 between\n");
  daemon.settled();
  EXPECT_EQ(daemon.events("status = 200").size(), 2u) << "the old configuration goes on";
  text.replace(text.find("status:itn"), 10, "code:int");
  daemon.configure(text);
  EXPECT_EQ(daemon.dingle({"reload"}).status, 0);
  daemon.write("a.log", "192.0.2.1 200 after\n");
  const Json after = daemon.settled();
  EXPECT_NE(after["configuration"], before["configuration"]);
  EXPECT_TRUE(after["problems"].empty());
  const auto events = daemon.events("code = 200");
  ASSERT_EQ(events.size(), 1u);
  EXPECT_EQ(events[0]["dingle.configuration"], after["configuration"]);
  EXPECT_EQ(events[0]["dingle.template"], 1);
  EXPECT_EQ(daemon.events().size(), 3u) << "nothing was read twice";
}

TEST(Reload, HangUpDoesTheSame) {
  Daemon daemon(kStoredGate);
  daemon.start();
  const Json before = daemon.status();
  daemon.configure(std::string(kStoredGate) + "# changed\n");
  daemon.hang_up();
  EXPECT_TRUE(eventually([&] { return daemon.status()["configuration"] != before["configuration"]; }));
}

TEST(Reload, RefusesToForgetWaitingEventsButTakesARename) {
  Daemon daemon(kStoredGate);
  std::filesystem::create_directories(daemon.dir + "/data/indexes");
  std::ofstream(daemon.dir + "/data/indexes/1") << "in the way";
  daemon.write("a.log", "192.0.2.1 200 waits\n");
  daemon.start();
  EXPECT_TRUE(eventually([&] { return daemon.status()["destinations"][0]["waiting"] != 0; }));
  std::string renamed = kStoredGate;
  for (std::size_t at; (at = renamed.find("store")) != std::string::npos;) renamed.replace(at, 5, "archive");
  daemon.configure(renamed);
  Ran ran = daemon.dingle({"reload"});
  EXPECT_EQ(ran.status, 1);
  EXPECT_NE(ran.err.find("1 events still wait"), std::string::npos) << ran.err;
  renamed.replace(renamed.find("archive: {"), 10, "archive: { was: store,");
  daemon.configure(renamed);
  EXPECT_EQ(daemon.dingle({"reload"}).status, 0);
  std::filesystem::remove(daemon.dir + "/data/indexes/1");
  EXPECT_EQ(find(daemon.settled()["destinations"], "archive")["sent"], 1);
}

TEST(Reload, ARenamedSourceGoesOnWhereItWas) {
  Daemon daemon(kStoredGate);
  daemon.write("a.log", "192.0.2.1 200 one\n");
  daemon.start();
  daemon.settled();
  std::string renamed = kStoredGate;
  for (const auto& [from, to] :
       {std::pair{"gate: {", "entry: { was: gate,"}, {"from: [gate]", "from: [entry]"}})
    renamed.replace(renamed.find(from), std::string(from).size(), to);
  daemon.configure(renamed);
  const Ran ran = daemon.dingle({"reload"});
  EXPECT_EQ(ran.status, 0) << ran.err;
  daemon.write("a.log", "192.0.2.1 200 two\n");
  EXPECT_TRUE(eventually([&] { return daemon.events("").size() >= 2; }));
  const Json status = daemon.settled();
  EXPECT_EQ(daemon.events("").size(), 2u);
  EXPECT_EQ(find(status["sources"], "entry")["lines"], 2);
  EXPECT_TRUE(status["balanced"]);
}

}  // namespace
}  // namespace dingle
