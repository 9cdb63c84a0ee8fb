// Pipelines that take from others, what is left over, and what goes nowhere.
#include <gtest/gtest.h>

#include <atomic>
#include <sstream>

#include "tests/end_to_end/daemon.h"
#include "tests/end_to_end/gate.h"

namespace dingle {
namespace {

constexpr const char* kCranes = R"(
sources:
  crane: { files: { paths: ['{dir}/logs/crane*.log'] } }
  radio: { files: { paths: ['{dir}/logs/radio*.log'] } }
pipelines:
  lifts:
    from: [crane]
    where: "body like 'lift%'"
    steps:
      - parse: { templates: ['lift {crane.id:word} load={crane.load:int} by {operator:word}'] }
      - drop: { where: "crane.load = 0", name: empty-hooks }
  heavy:
    from: [lifts]
    where: "crane.load >= 20"
    unless: "crane.id = 'test'"
    steps:
      - set: { fields: { alarm: heavy } }
    to: [all, { alerts: "crane.load > 30" }]
  every: { from: [lifts], to: [all] }
  rest:
    from: [leftovers]
    where: "body not like '#%'"
    to: [ { all: "body like 'ship%'" } ]
destinations:
  all: { index: { name: all }, queue: { overflow: shed_oldest } }
  alerts: { index: { name: alerts } }
)";

const std::string kLifts =
    "lift C1 load=5 by ann\nlift C2 load=25 by bo\nlift C1 load=0 by ann\nlift C3 load=40 by cy\n"
    "lift test load=99 by cy\nlift C1 load=x by cy\nlower C1\n# comment 17\n# comment 18\n";

Json counts_of(const Json& pipeline) {
  Json all;
  for (const char* what : {"in", "out", "dropped", "unmatched", "unrouted"}) all.push_back(pipeline[what]);
  return all;
}

TEST(Flow, ChainsConditionsAndLeftoversAreCountedAndShown) {
  Daemon daemon(kCranes);
  daemon.write("crane.log", kLifts);
  daemon.write("radio.log", "ship Gannet calls\nstatic noise\n");
  daemon.start();
  const Json status = daemon.settled();
  EXPECT_EQ(status["balanced"], true);
  const Json& pipelines = status["pipelines"];
  EXPECT_EQ(counts_of(find(pipelines, "lifts")), Json::array({6, 5, 1, 1, 0}));
  EXPECT_EQ(counts_of(find(pipelines, "heavy")), Json::array({2, 2, 0, 0, 0}));
  EXPECT_EQ(counts_of(find(pipelines, "every")), Json::array({5, 5, 0, 0, 0}));
  EXPECT_EQ(counts_of(find(pipelines, "rest")), Json::array({3, 3, 0, 0, 2}));
  EXPECT_EQ(find(pipelines, "rest")["bytes_in"], 17 + 12 + 8);
  EXPECT_GT(find(pipelines, "heavy")["bytes_out"], 40);
  EXPECT_EQ(find(pipelines, "lifts")["bytes_out"], 0);  // it has no destination of its own
  EXPECT_EQ(find(status["sources"], "crane")["leftovers"], 3);
  EXPECT_EQ(find(status["sources"], "crane")["left"], 2);
  EXPECT_EQ(find(status["sources"], "radio")["left"], 0);
  EXPECT_EQ(daemon.events("alarm = 'heavy'").size(), 2u);
  EXPECT_EQ(daemon.events("dingle.pipeline = 'every' and alarm is null").size(), 5u);
  EXPECT_EQ(daemon.events("dingle.pipeline = 'rest'").size(), 1u);

  const Ran left = daemon.dingle({"leftovers"});
  EXPECT_EQ(left.status, 1);
  EXPECT_NE(left.out.find("crane: 2 lines  not let in by the conditions of lifts, rest"), std::string::npos)
      << left.out;
  EXPECT_NE(left.out.find("# comment {comment:int}"), std::string::npos) << left.out;
  EXPECT_NE(left.out.find("3 lines were taken by pipelines from `leftovers`"), std::string::npos) << left.out;
  const Ran none = daemon.dingle({"leftovers", "--source", "radio"});
  EXPECT_EQ(none.status, 0);
  EXPECT_NE(none.out.find("no line was left over"), std::string::npos) << none.out;
  const Ran wrong = daemon.dingle({"leftovers", "--source", "radoi"});
  EXPECT_EQ(wrong.status, 2);
  EXPECT_NE(wrong.err.find("did you mean `radio`"), std::string::npos) << wrong.err;
}

TEST(Flow, WhatIsDroppedCanBeWatchedWithTheStepThatDidIt) {
  Daemon daemon(kCranes);
  daemon.start();
  std::atomic<bool> seen{false};
  std::thread writing([&] {
    for (int n = 0; !seen && n < 3000; ++n) {
      daemon.write("crane.log", "lift C1 load=0 by ann\nlift C1 load=1 by ann\n");
      daemon.write("radio.log", "noise " + std::to_string(n) + "\n");
      std::this_thread::sleep_for(std::chrono::milliseconds(20));
    }
  });
  const Ran lifts = daemon.dingle({"watch", "--dropped", "--pipeline", "lifts", "--limit", "4"});
  const Ran rest = daemon.dingle({"watch", "--dropped", "--pipeline", "rest", "--limit", "1"});
  const Ran any = daemon.dingle({"watch", "--dropped", "--limit", "1"});
  const Ran programs =
      daemon.dingle({"watch", "--dropped", "--pipeline", "lifts", "--limit", "2", "--output", "ndjson"});
  seen = true;
  writing.join();
  EXPECT_EQ(lifts.out.find("lifts: 2 empty-hooks"), 0u) << lifts.out;
  EXPECT_EQ(lifts.out.find("load=1"), std::string::npos) << lifts.out;
  EXPECT_EQ(rest.out.find("rest: to no destination"), 0u) << rest.out;
  EXPECT_NE(any.out, "");
  const Json event = Json::parse(programs.out.substr(0, programs.out.find('\n')));
  EXPECT_EQ(event["dingle.dropped_by"], "empty-hooks");
  EXPECT_EQ(event["dingle.step"], 2);
  EXPECT_EQ(event["crane.load"], 0);
}

// A letter of the second pipeline: its line goes through the first one again.
TEST(Flow, LettersGoThroughTheWholeChainAgain) {
  std::atomic<bool> refuses{true};
  std::mutex mutex;
  std::vector<Json> taken;
  Service service([&](const HttpRequest& request, HttpAnswer& response) {
    std::istringstream lines(request.body);
    for (std::string line; std::getline(lines, line);) {
      if (refuses && line.find("\"C1\"") != std::string::npos) return void(response.status = 400);
      std::lock_guard lock(mutex);
      taken.push_back(Json::parse(line));
    }
  });
  const auto with = [&](const std::string& pattern) {
    return "sources: { crane: { files: { paths: ['{dir}/logs/*.log'] } } }\npipelines:\n"
           "  lifts: { from: [crane], steps: [ parse: { templates: ['lift {crane.id:word} load={crane.load:" +
           pattern +
           "}'] } ], to: [ok] }\n"
           "  heavy: { from: [lifts], to: [table] }\n"
           "destinations:\n  ok: { nowhere: {} }\n"
           "  table: { http: { url: '" +
           service.url() + "' }, retry: { first: 20ms } }\n";
  };
  Daemon daemon(with("unspaced"));
  daemon.write("crane.log", "lift C1 load=6\nlift C2 load=7\n");
  daemon.start();
  EXPECT_TRUE(eventually([&] { return find(daemon.status()["destinations"], "table")["letters"] == 1; }));
  daemon.configure(with("int"));
  refuses = false;
  ASSERT_EQ(daemon.dingle({"reload"}).status, 0);
  const Ran again = daemon.dingle({"letters", "resend", "--all", "--through-pipeline"});
  EXPECT_EQ(again.status, 0) << again.err;
  EXPECT_TRUE(eventually([&] { return find(daemon.status()["destinations"], "table")["sent"] == 2; }));
  const Json status = daemon.settled();
  EXPECT_EQ(find(status["destinations"], "table")["letters"], 0);
  EXPECT_EQ(find(status["pipelines"], "heavy")["in"], 3);
  EXPECT_EQ(find(status["destinations"], "ok")["in"], 2);  // it had its event
  std::lock_guard lock(mutex);
  ASSERT_EQ(taken.size(), 2u);
  EXPECT_EQ(taken[0]["crane.load"], "7");
  EXPECT_EQ(taken[1]["crane.load"], 6);  // as the pipelines are now
  EXPECT_EQ(taken[1]["dingle.pipeline"], "heavy");
}

constexpr const char* kFolded = R"(
sources: { crane: { files: { paths: ['{dir}/logs/crane*.log'] } } }
pipelines:
  lifts:
    from: [crane]
    steps:
      - parse: { templates: ['lift {crane.id:word} load={crane.load:int} by {operator:word}'] }
      - unique: { by: [crane.id, crane.load], within: 1h }
      - fold: { by: [crane.id], window: 1s, grace: 100ms, values: { tons: sum(crane.load), most: max(crane.load), lifts: count(*) } }
    to: [all]
destinations: { all: { index: { name: all } } }
)";

// Kills with windows open, and lines written between them: the sums are those of the lines.
TEST(Flow, WhatIsFoldedIsCountedOnceOverKills) {
  Daemon daemon(kFolded);
  daemon.start();
  long lines = 0, tons = 0;
  for (int round = 0; round < 6; ++round) {
    std::string text;
    for (int i = 0; i < 500; ++i, ++lines, tons += lines)
      text += "lift C" + std::to_string(i % 3) + " load=" + std::to_string(lines + 1) + " by ann\n";
    daemon.write("crane.log", text + "lift C0 load=1 by bo\n");
    if (round == 0) daemon.settled();  // the first of those that come again
    if (round % 2) daemon.kill(), daemon.start();
  }
  ASSERT_TRUE(eventually([&] {
    const Json p = find(daemon.status()["pipelines"], "lifts");
    return p["in"] == lines + 6 && p["held"] == 0;
  }));
  const Json status = daemon.settled();
  EXPECT_EQ(status["balanced"], true) << status["balance"];
  EXPECT_EQ(find(status["pipelines"], "lifts")["dropped"], 6);
  long sum = 0, stands_for = 0;
  for (const Json& e : daemon.events("dingle.part >= 1"))
    sum += e["tons"].get<long>(), stands_for += e["dingle.stands_for"].get<long>();
  EXPECT_EQ(stands_for, lines);
  EXPECT_EQ(sum, tons);
  const Ran shown = daemon.dingle({"status", "--steps"});
  EXPECT_NE(shown.out.find("FOLDED"), std::string::npos) << shown.out;
}

}  // namespace
}  // namespace dingle
