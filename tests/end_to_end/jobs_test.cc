#include <gtest/gtest.h>

#include <fstream>
#include <sstream>

#include "tests/end_to_end/caller.h"
#include "tests/end_to_end/daemon.h"
#include "tests/end_to_end/service.h"

namespace dingle {
namespace {

// A destination that refuses all for good, until it does not.
class JobsOfDaemon : public testing::Test {
 protected:
  std::atomic<bool> strict{true};
  Received received;
  Service service{[this](const HttpRequest& request, HttpAnswer& answer) {
    if (strict) return answer.status = 422, void();
    received.add(request);
  }};
  Daemon daemon{R"(
sources: { gate: { files: { paths: ['{dir}/logs/*.log'] } } }
pipelines: { p: { from: [gate], steps: [ { parse: { templates: ['{ship} {n:int}'] } } ], to: [d, store] } }
destinations:
  store: { index: { name: 'gate-{day}' } }
  d: { http: { url: ')" +
                service.url() + "', events: { fields: [n] } }, batch: { events: 500 } }\n"};

  void lines(int from, int to) {
    std::string all;
    for (int i = from; i < to; ++i) all += "Tern " + std::to_string(i) + "\n";
    daemon.write("gate.log", all);
  }
  // How often each was received.
  std::map<int, int> times() {
    std::map<int, int> all;
    std::lock_guard lock(received.mutex);
    for (const HttpRequest& r : received.requests) {
      std::istringstream events(r.body);
      for (std::string event; std::getline(events, event);) ++all[Json::parse(event)["n"].get<int>()];
    }
    return all;
  }
  std::vector<Json> jobs() {
    const Json all = Json::parse(daemon.dingle({"jobs", "-o", "json"}).out);
    return {all.begin(), all.end()};
  }
};

TEST_F(JobsOfDaemon, AResendGoesOnAfterTheProgramWasKilled) {
  constexpr int kLines = 2500;
  lines(0, kLines);
  daemon.start();
  EXPECT_EQ(find(daemon.settled()["destinations"], "d")["set_aside"], kLines);
  strict = false;
  for (int kills = 0; kills < 3; ++kills) {
    const Ran ran = daemon.dingle({"letters", "resend", "--all", "--no-wait"});
    EXPECT_EQ(ran.status, 0) << ran.err;
    EXPECT_TRUE(eventually(
        [&] { return times().size() >= std::size_t(1 + kills * 1000) || jobs()[0]["state"] == "done"; }));
    daemon.kill();
    daemon.start();
  }
  EXPECT_TRUE(eventually([&] {
    for (const Json& job : jobs())
      if (job["state"] != "done") return false;
    return true;
  }));
  const Json status = daemon.settled();
  EXPECT_TRUE(status["balanced"]) << status["balance"];
  std::int64_t resent = 0;
  for (const Json& job : jobs()) resent += job["result"].value("resent", 0);
  EXPECT_EQ(resent, kLines) << Json(jobs()).dump();
  EXPECT_EQ(times().size(), std::size_t(kLines));
  EXPECT_EQ(daemon.dingle({"letters"}).out, "no letters are kept\n");
}

TEST_F(JobsOfDaemon, IsShownFollowedStoppedAndResumed) {
  lines(0, 10);
  daemon.start();
  daemon.settled();
  EXPECT_EQ(daemon.dingle({"jobs"}).out, "no job was ever started\n");
  const Ran none = daemon.dingle({"letters", "resend", "--reason", "no such words"});
  EXPECT_EQ(none.out, "resent 0 letters\n") << none.err;
  strict = false;
  EXPECT_EQ(daemon.dingle({"letters", "resend", "--all"}).out, "resent 10 letters\n");
  const Json last = jobs().at(0);
  EXPECT_EQ(last["state"], "done");
  EXPECT_EQ(last["what"], "all");
  EXPECT_EQ(last["by"], "owner");
  EXPECT_EQ(last["done"], 10);
  const std::string id = last["id"].dump();
  EXPECT_NE(daemon.dingle({"jobs", "show", id}).out.find("10 of 10 letters"), std::string::npos);
  EXPECT_EQ(daemon.dingle({"jobs", "follow", id}).status, 0);
  const Ran stopped = daemon.dingle({"jobs", "stop", id});
  EXPECT_EQ(stopped.status, 1);
  EXPECT_EQ(stopped.err, "dingle: job 2 cannot stop: it is done already\n");
  EXPECT_EQ(daemon.dingle({"jobs", "resume", id}).err, "dingle: job 2 cannot go on: it is done\n");
  EXPECT_NE(daemon.dingle({"jobs", "show", "99"}).err.find("there is no job 99"), std::string::npos);
  EXPECT_NE(daemon.dingle({"jobs"}).out.find("resend letters"), std::string::npos);
  // As it is answered: 202, and where it is.
  Caller http("http://" + daemon.address(), daemon.token());
  const HttpReply begun = http.post("/v1/letters/resend", R"({"all":true})", "application/json");
  EXPECT_EQ(begun.status, 202);
  const HttpReply followed = http.get("/v1/jobs/3?follow=true");
  std::istringstream each(followed.body);
  std::string text, state;
  while (std::getline(each, text)) state = Json::parse(text)["state"];
  EXPECT_EQ(state, "done") << followed.body;
}

TEST_F(JobsOfDaemon, OneThatCannotGoOnSaysWhyAndGoesOnOnceItCan) {
  strict = true;
  lines(0, 3);
  daemon.start();
  daemon.settled();
  const std::string text = read_file(daemon.dir + "/dingle.yaml");
  std::string without = text;
  // The source is gone, so there is no pipeline for its lines.
  without.replace(without.find("sources: { gate:"), 16, "sources: { quay:");
  without.replace(without.find("/logs/*.log"), 11, "/quay/*.log");  // or it would read the same lines
  without.replace(without.find("from: [gate]"), 12, "from: [quay]");
  std::ofstream(daemon.dir + "/dingle.yaml") << without;
  EXPECT_EQ(daemon.dingle({"reload"}).status, 0);
  const Ran ran = daemon.dingle({"letters", "resend", "--all", "--through-pipeline"});
  EXPECT_EQ(ran.status, 1);
  EXPECT_EQ(ran.out, "resent 0 letters\n");
  EXPECT_NE(ran.err.find("job 1 failed: the source of letter 1 is gone"), std::string::npos) << ran.err;
  EXPECT_NE(ran.err.find("dingle jobs resume 1"), std::string::npos) << ran.err;
  std::ofstream(daemon.dir + "/dingle.yaml") << text;
  EXPECT_EQ(daemon.dingle({"reload"}).status, 0);
  strict = false;
  EXPECT_EQ(daemon.dingle({"jobs", "resume", "1"}).status, 0);
  EXPECT_EQ(daemon.dingle({"jobs", "follow", "1"}).status, 0);
  daemon.settled();
  EXPECT_EQ(times().size(), 3u);
}

TEST_F(JobsOfDaemon, IndexesAreDeletedByName) {
  strict = false;
  lines(0, 10);
  daemon.start();
  daemon.settled();
  const std::string name = Json::parse(daemon.dingle({"indexes", "-o", "json"}).out)[0]["name"];
  const Ran missing = daemon.dingle({"indexes", "delete", "gate-200*"});
  EXPECT_EQ(missing.status, 1);
  EXPECT_NE(missing.err.find("there is no index `gate-200*`"), std::string::npos) << missing.err;
  const Ran elsewhere = daemon.dingle({"indexes", "delete", name, "--destination", "stroe"});
  EXPECT_NE(elsewhere.err.find("did you mean `store`?"), std::string::npos) << elsewhere.err;
  const Ran ran = daemon.dingle({"indexes", "delete", "gate-*", name});
  EXPECT_EQ(ran.out, "deleted " + name + ": 10 events\n") << ran.err;
  EXPECT_EQ(daemon.dingle({"indexes", "-o", "json"}).out, "[]\n");
  const Json gone = Json::parse(daemon.dingle({"indexes", "--removed", "-o", "json"}).out);
  ASSERT_EQ(gone.size(), 1u);
  EXPECT_EQ(gone[0]["name"], name);
  EXPECT_EQ(gone[0]["events"], 10);
  EXPECT_EQ(gone[0]["why"], "deleted by owner");
  EXPECT_NE(daemon.dingle({"indexes"}).out.find("removed: 1 index with 10 events"), std::string::npos);
  EXPECT_NE(daemon.log().find("index deleted"), std::string::npos);
}

}  // namespace
}  // namespace dingle
