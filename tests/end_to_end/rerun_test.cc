// Putting stored events through their pipelines again: each is there exactly once, whoever looks and whatever is killed.
#include <gtest/gtest.h>

#include <atomic>
#include <set>
#include <thread>

#include "tests/end_to_end/caller.h"
#include "tests/end_to_end/daemon.h"

namespace dingle {
namespace {

// `steps`: YAML of a list.
std::string gate(const std::string& steps, const std::string& more = "") {
  return R"(
sources: { gate: { files: { paths: ['{dir}/logs/*.log'] }, zone: America/Argentina/Buenos_Aires } }
pipelines:
  gate:
    from: [gate]
)" + more +
         "    steps: " + steps + R"(
    to: [store]
destinations: { store: { index: { name: 'gate-{day}', keep: { age: 30d } } } }
)";
}

const std::string kParse = "{ parse: { templates: ['{at:rfc3339} {what} {n:int}'] } }",
                  kTime = "{ time: { field: at } }";

std::string line(int n, const std::string& what = "open") {
  char text[60];
  std::snprintf(text, sizeof text, "2024-03-%02dT10:%02d:%02dZ ", 1 + n % 5, n / 60 % 60, n % 60);
  return text + what + " " + std::to_string(n) + "\n";
}
std::string lines(int from, int to) {
  std::string all;
  for (int i = from; i < to; ++i) all += line(i);
  return all;
}

Json rerun(Daemon& daemon, std::vector<std::string> more) {
  more.insert(more.begin(), "rerun");
  more.insert(more.end(), {"-o", "json"});
  const Ran ran = daemon.dingle(more);
  const Json job = Json::parse(ran.out, nullptr, false);
  EXPECT_EQ(ran.status, 0) << ran.err;
  EXPECT_EQ(job.value("state", ""), "done") << ran.out << ran.err;
  return job.value("result", Json::object());
}
std::multiset<int> numbers(Daemon& daemon) {
  std::multiset<int> all;
  for (const Json& e : daemon.events("n > -1")) all.insert(e["n"].get<int>());
  return all;
}
int count(const Json& result, const char* what) { return result.value(what, -1); }

TEST(Rerunning, WrongTimesAreRepairedWhileOthersSearchAndAllIsKilled) {
  Daemon daemon(gate("[" + kParse + "]"));
  daemon.start();
  constexpr int kOld = 12'000, kLive = 800;
  daemon.write("gate.log", lines(0, kOld));
  daemon.settled();
  daemon.configure(gate("[" + kParse + ", " + kTime + "]"));
  ASSERT_EQ(daemon.dingle({"reload"}).status, 0);
  std::atomic<bool> done{false};
  std::atomic<int> searches{0}, wrong{0};
  std::atomic<int> killing{0};
  // Whoever searches meanwhile finds each event exactly once.
  std::jthread searcher([&](const std::stop_token& stop) {
    while (!done && !stop.stop_requested()) {
      const int before = killing;
      const std::string address = daemon.address();
      if (address.empty()) continue;
      Caller api("http://" + address, daemon.token());
      const Json answer = Json::parse(
          api.get("/v1/timeline?where=n%20%3C%20" + std::to_string(kOld) + "%20and%20n%20%3E%3D%200").body,
          nullptr, false);
      if (killing != before || before % 2 != 0 || !answer.is_object() || !answer.contains("scanned"))
        continue;
      ++searches;
      wrong += answer["scanned"]["matched"] != kOld;
      if (answer["scanned"]["matched"] != kOld) std::cerr << answer["scanned"] << "\n";
    }
  });
  ASSERT_EQ(daemon.dingle({"rerun", "what = 'open'", "--no-wait"}).status, 0);
  for (int kill = 0; kill < 4; ++kill) {
    daemon.write("gate.log", lines(kOld + kill * kLive / 4, kOld + (kill + 1) * kLive / 4));
    const int seen = searches;
    EXPECT_TRUE(eventually([&] { return searches > seen + 2; }));
    ++killing;
    daemon.kill();
    daemon.start();
    ++killing;
  }
  Json job;
  EXPECT_TRUE(eventually(
      [&] {
        const Json jobs = Json::parse(daemon.dingle({"jobs", "-o", "json"}).out, nullptr, false);
        if (!jobs.is_array() || jobs.empty()) return false;
        job = jobs[0];
        return job["state"] == "done" || job["state"] == "failed";
      },
      std::chrono::seconds(240)));
  EXPECT_EQ(job["state"], "done") << job;
  // Killed or not. If it was killed before it had noted when it began, it met lines that came since.
  EXPECT_EQ(job["result"]["moved"], kOld) << job;
  EXPECT_EQ(job["result"]["read"].get<int>() - job["result"]["unchanged"].get<int>(), kOld) << job;
  const Json status = daemon.settled();
  done = true;
  searcher.join();
  EXPECT_EQ(wrong, 0) << "of " << searches;
  EXPECT_GT(searches, 8);
  EXPECT_TRUE(status["balanced"]) << status["balance"];
  Caller api("http://" + daemon.address(), daemon.token());
  EXPECT_EQ(Json::parse(api.get("/v1/timeline?where=n%20%3E%20-1").body)["scanned"]["matched"], kOld + kLive);
  const Json wrongly =
      Json::parse(daemon.dingle({"search", "timestamp > '2025-01-01T00:00:00Z'", "-o", "json"}).out);
  EXPECT_EQ(wrongly.size(), 0u);
  EXPECT_EQ(daemon.events("n = 77").at(0)["timestamp"], "2024-03-03T10:01:17Z");
}

TEST(Rerunning, EachEventIsReplacedDroppedOrLeftAndCounted) {
  Daemon daemon(gate("[" + kParse + ", { mask: { fields: [secret] } }]"),
                "held: { key: { env: DINGLE_HELD_KEY } }");
  daemon.environment = {{"DINGLE_HELD_KEY", "a key that is long enough"}};
  daemon.start();
  daemon.write("gate.log", line(1) + line(2, "shut") + line(3, "skip") + line(4, "lose") +
                               "2024-03-01T10:00:00Z two words 5\n");
  daemon.settled();
  const std::string held = daemon.events("dingle.held is not null").at(0)["body"];
  // Times, other fields, a template for what was held, what is dropped, what is not let in, what matches no more.
  daemon.configure(
      gate("[ { parse: { templates: ['{at:rfc3339} {what:/open|skip|lose|two words/} {n:int}'] } }, " +
               kTime + ", { drop: { where: \"what = 'lose'\" } }, { mask: { fields: [secret] } } ]",
           "    unless: body like '%skip%'\n"));
  ASSERT_EQ(daemon.dingle({"reload"}).status, 0) << daemon.log();
  const Json dry = rerun(daemon, {"--all", "--dry"});
  EXPECT_EQ(dry["examples"].size(), 4u) << dry;
  EXPECT_EQ(daemon.events().size(), 5u);
  const Json result = rerun(daemon, {"--all"});
  for (const auto& [what, n] : std::map<std::string, int>{{"read", 5},
                                                          {"replaced", 2},
                                                          {"made", 2},
                                                          {"moved", 2},
                                                          {"dropped", 1},
                                                          {"unmatched", 1},
                                                          {"not_taken", 1},
                                                          {"unchanged", 0},
                                                          {"altered", 0}}) {
    EXPECT_EQ(count(result, what.c_str()), n) << what << result;
    EXPECT_EQ(count(dry, what.c_str()), n) << what << dry;
  }
  EXPECT_EQ(numbers(daemon), (std::multiset<int>{1, 2, 3, 5}));
  EXPECT_EQ(daemon.events("n = 1").at(0)["timestamp"], "2024-03-02T10:00:01Z");
  EXPECT_EQ(daemon.events("n = 1").at(0)["dingle.zone"], "America/Argentina/Buenos_Aires");
  EXPECT_EQ(daemon.events("n = 1").at(0).contains("at"), false);  // what the old version made goes
  EXPECT_EQ(daemon.events("n = 5").at(0)["what"], "two words");   // it was held
  EXPECT_TRUE(daemon.events("n = 2").at(0).contains("at"));
  // Once more: the same would come of it.
  const Json again = rerun(daemon, {"--all"});
  EXPECT_EQ(count(again, "unchanged"), 2) << again;
  EXPECT_EQ(count(again, "replaced"), 0);
  EXPECT_TRUE(daemon.settled()["balanced"]);
  // Who reads page after page sees that something was changed.
  Caller api("http://" + daemon.address(), daemon.token());
  EXPECT_GT(Json::parse(api.get("/v1/events").body)["changes"].get<int>(), 1);
}

TEST(Rerunning, WhatCannotBeTakenApartAgainIsLeft) {
  const std::string steps =
      "[ { parse: { templates: ['{at:rfc3339} {user} {n:int}'] } }, { mask: { fields: [user] } } ]";
  Daemon daemon(gate(steps) + R"(
tables: {}
)");
  daemon.configure(R"(
sources: { gate: { files: { paths: ['{dir}/logs/*.log'] } } }
pipelines:
  gate: { from: [gate], steps: )" +
                   steps + R"(, to: [store] }
  sums: { from: [gate], steps: [ { fold: { by: [what], window: 1s, grace: 10ms, values: { n: count(*) } } } ], to: [store] }
destinations: { store: { index: {} } }
)");
  daemon.start();
  daemon.write("gate.log", line(1, "annalisa") + line(2, "bertholt"));
  EXPECT_TRUE(eventually([&] { return daemon.events("", 100).size() >= 3; }));
  EXPECT_EQ(daemon.events("dingle.altered = true").size(), 2u);
  const auto before = daemon.events();
  const Json result = rerun(daemon, {"--all"});
  EXPECT_EQ(count(result, "altered"), 2) << result;
  EXPECT_EQ(count(result, "of_steps"), 1) << result;
  daemon.configure(gate("[" + kParse + "]"));
  EXPECT_EQ(daemon.dingle({"reload"}).status, 0);
  EXPECT_EQ(daemon.events(), before);
}

TEST(Rerunning, OneLineMayBecomeSeveral) {
  Daemon daemon(gate("[ json: {} ]"));
  daemon.start();
  std::string all;
  for (int i = 0; i < 300; ++i)
    all += "{\"cars\":[" + std::to_string(2 * i) + "," + std::to_string(2 * i + 1) + "]}\n";
  daemon.write("gate.log", all);
  daemon.settled();
  daemon.configure(gate("[ json: {}, each: { field: cars, as: n } ]"));
  ASSERT_EQ(daemon.dingle({"reload"}).status, 0) << daemon.log();
  const Json result = rerun(daemon, {"--all"});
  EXPECT_EQ(count(result, "replaced"), 300) << result;
  EXPECT_EQ(count(result, "made"), 600) << result;
  EXPECT_EQ(numbers(daemon).size(), 600u);
  EXPECT_EQ(numbers(daemon).count(301), 1u);
  EXPECT_EQ(count(rerun(daemon, {"--all"}), "altered"), 600);  // each holds a piece of its line
}

TEST(Rerunning, WhatIsAskedWronglyIsRefused) {
  Daemon daemon(gate("[" + kParse + "]"));
  daemon.start();
  const auto says = [&](std::vector<std::string> asked, const std::string& what) {
    asked.insert(asked.begin(), "rerun");
    const Ran ran = daemon.dingle(asked);
    EXPECT_NE(ran.status, 0);
    EXPECT_NE(ran.err.find(what), std::string::npos) << ran.err;
  };
  says({}, "which events?\n  = give `where`, `from`, `to`, `index`, or `all`: true");
  says({"n >"}, "^");
  says({"--all", "--destination", "stor"}, "did you mean `store`?");
  EXPECT_EQ(count(rerun(daemon, {"--all"}), "read"), 0);
  daemon.write("gate.log", line(1));
  daemon.settled();
  for (const char* command : {"rerun", "erase"}) {  // nothing is found, for a reason
    const Ran ran = daemon.dingle({command, "pipelin = 'gate'", "--dry"});
    EXPECT_NE(ran.err.find("no event in that time has a field `pipelin`"), std::string::npos) << ran.err;
  }
}

}  // namespace
}  // namespace dingle
