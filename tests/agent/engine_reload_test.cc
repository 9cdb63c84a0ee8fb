#include "tests/agent/engine_fixture.h"
#include "tests/spool/faulty_disk.h"

namespace dingle {
namespace {

TEST_F(EngineTest, AReloadKeepsWhatDidNotChange) {
  destinations = "{ d: { index: { name: 'n-{day}' } }, e: { index: { name: 'n-{day}' } } }";
  start("[d, e]");
  ASSERT_TRUE(engine->submit(batch({"one"})));
  EXPECT_TRUE(got({"one"}) && got({"one"}, "e"));
  destinations = "{ d: { index: { name: 'n-{day}' } }, e: { index: { name: x } } }";
  EXPECT_EQ(engine->reload(configuration("[d, e]")), "");
  ASSERT_TRUE(engine->submit(batch({"two"})));
  EXPECT_TRUE(got({"one", "two"}) && got({"one", "two"}, "e"));
  EXPECT_EQ(taker("d").made, 1);
  EXPECT_EQ(taker("e").made, 2);
  EXPECT_EQ(taker("e").names.back(), "x");
}

// What did not change goes on: also its sources, whose batches are appended while another one stops and begins.
TEST_F(EngineTest, AReloadLeavesOtherSourcesAlone) {
  start();
  std::atomic<bool> ends{false};
  std::atomic<int> refused{0}, taken{0};
  std::thread source([&] {
    for (; !ends; ++taken)
      if (!engine->submit(batch({std::to_string(taken)}))) ++refused, --taken;
  });
  for (int i = 0; i < 20; ++i) {
    steps = i % 2 == 0 ? "[ set: { fields: { round: " + std::to_string(i) + " } } ]" : "[]";
    EXPECT_EQ(engine->reload(configuration()), "");
  }
  ends = true;
  source.join();
  EXPECT_EQ(refused, 0);
  Texts all;
  for (int i = 0; i < taken; ++i) all.push_back(std::to_string(i));
  EXPECT_TRUE(got(all)) << taken << " against " << taker("d").bodies.size();
}

TEST_F(EngineTest, ASourceThatChangesStopsAndBegins) {
  start();
  ASSERT_TRUE(engine->submit(batch({"one"})));
  more = ", zone: Europe/Stockholm";
  EXPECT_EQ(engine->reload(configuration()), "");
  ASSERT_TRUE(engine->submit(batch({"two"})));
  EXPECT_TRUE(got({"one", "two"}));
  EXPECT_EQ(engine->reload(configuration("[d]", "other")), "");
  EXPECT_FALSE(engine->submit(batch({"three"}))) << "there is no such source any more";
}

// Between the last look and the swap something may still come for a destination that goes.
TEST_F(EngineTest, WhatComesForADestinationThatGoesIsStillDelivered) {
  destinations = "{ d: { index: {} }, e: { index: {}, retry: { first: 1ms, longest: 5ms } } }";
  start("[d, e]");
  std::atomic<bool> ends{false};
  std::atomic<int> taken{0};
  std::thread source([&] {
    while (!ends) {
      if (engine->submit(batch({std::to_string(taken)}))) ++taken;
      for (int i = 0; i < 50 && waiting("e").events != 0; ++i) std::this_thread::sleep_for(1ms);
    }
  });
  std::string answer;
  int at_least = 0;
  EXPECT_TRUE(until([&] {  // while events wait it is refused
    at_least = taken;
    destinations = "{ d: { index: {} } }";
    return (answer = engine->reload(configuration())).empty();
  })) << answer;
  ends = true;
  source.join();
  EXPECT_TRUE(until([&] { return engine->destinations().size() == 1; })) << "it ends when it is empty";
  Texts all;
  for (int i = 0; i < taken; ++i) all.push_back(std::to_string(i));
  EXPECT_TRUE(got(all));
  std::lock_guard lock(taker("e").mutex);
  const Texts& e = taker("e").bodies;
  EXPECT_GE(static_cast<int>(e.size()), at_least);
  EXPECT_TRUE(std::equal(e.begin(), e.end(), all.begin()));
}

TEST_F(EngineTest, ADestinationThatWentWhileItWasDownDeliversWhatWaits) {
  destinations = "{ d: { index: {} }, e: { index: {}, retry: { first: 1ms, longest: 5ms } } }";
  const auto before = configuration("[d, e]");
  close(true, "e");
  start(before);
  ASSERT_TRUE(engine->submit(batch({"one"})));
  EXPECT_TRUE(got({"one"}));
  engine->stop(0s);
  engine.reset();
  destinations = "{ d: { index: {} } }";
  const auto refused = Engine::start(configuration(), [](const Problems::Problem&, Problems::Said) {});
  ASSERT_FALSE(refused) << "nobody knows what it was";
  EXPECT_NE(refused.problem().message.find("1 events still wait"), std::string::npos);
  start(configuration(), before);
  EXPECT_EQ(engine->destinations().size(), 2u);
  std::string told;
  for (const auto& problem : engine->problems().all()) told += problem.about + " " + problem.text + "\n";
  EXPECT_NE(told.find("destination e: leaving it is not in the configuration any more, but 1 event waits"),
            std::string::npos)
      << told;
  EXPECT_EQ(engine->reload(configuration()), "") << "it is in nobody's way";
  close(false, "e");
  EXPECT_TRUE(got({"one"}, "e"));
  EXPECT_TRUE(until([&] { return engine->destinations().size() == 1; }));
}

TEST_F(EngineTest, AReloadThatLosesWaitingEventsIsRefused) {
  destinations =
      "{ d: { index: { name: 'n-{day}' }, retry: { first: 1ms, longest: 5ms } }, e: { index: { name: "
      "'n-{day}' } } }";
  close(true);
  start("[d, e]");
  ASSERT_TRUE(engine->submit(batch({"one"})));
  EXPECT_TRUE(got({"one"}, "e"));
  destinations = "{ e: { index: { name: 'n-{day}' } } }";
  EXPECT_NE(engine->reload(configuration("[e]")).find("1 events still wait"), std::string::npos);
  ASSERT_TRUE(engine->submit(batch({"two"})));
  EXPECT_TRUE(got({"one", "two"}, "e"));
  close(false);
  EXPECT_TRUE(got({"one", "two"})) << "the old configuration goes on";
  EXPECT_TRUE(until([&] { return engine->reload(configuration("[e]")).empty(); }));
}

TEST_F(EngineTest, ARenamedDestinationKeepsItsQueue) {
  start();
  close(true);
  ASSERT_TRUE(engine->submit(batch({"waits"})));
  ASSERT_TRUE(until([&] { return waiting().events == 1; }));
  destinations = "{ e: { index: { name: 'n-{day}' }, was: d, retry: { first: 1ms, longest: 5ms } } }";
  EXPECT_EQ(engine->reload(configuration("[e]")), "");
  EXPECT_TRUE(got({"waits"}, "e"));
  EXPECT_EQ(engine->reload(configuration("[e]")), "") << "`was` may stay";
  ASSERT_TRUE(engine->submit(batch({"more"})));
  EXPECT_TRUE(got({"waits", "more"}, "e"));
}

TEST_F(EngineTest, ARenamedSourceKeepsItsCounters) {
  start();
  ASSERT_TRUE(engine->submit(batch({"one"})));
  EXPECT_TRUE(got({"one"}));
  engine->spool().note({{{"file/s/1:2", "place", false}}, {}});
  more = ", was: s";
  EXPECT_EQ(engine->reload(configuration("[d]", "t")), "");
  EXPECT_EQ(counter("source/t/events"), 1);
  EXPECT_EQ(counter("source/s/events"), 0);
  EXPECT_EQ(engine->spool().state("file/t/1:2").value_or("none"), "place");
}

// A refused change changed nothing, wherever it was refused: names, numbers, files, and what is delivered.
TEST_F(EngineTest, ARefusedReloadChangedNothing) {
  FaultyDisk spool_disk;
  const std::string two =
      "{ d: { index: {}, retry: { first: 1ms, longest: 5ms } }, "
      "e: { index: {}, retry: { first: 1ms, longest: 5ms } } }";
  destinations = two;
  auto started = Engine::start(
      with_pipelines("{ p: { from: [s], to: [d] }, q: { from: [s], to: [e] }, "
                     "r: { from: [s], steps: [fold: { by: [body], window: 1h }], to: [e] } }"),
      [](const Problems::Problem&, Problems::Said) {}, *clock, {}, spool_disk);
  ASSERT_TRUE(started) << started.problem().message;
  engine = std::move(*started);
  const auto state = [&] {
    std::map<std::string, std::string> all;
    for (const char* prefix : {"destination/", "pipeline/", "step/", "next-", "file/", "source/"})
      for (const auto& [key, value] : engine->spool().state_with_prefix(prefix)) all[key] = value;
    return all;
  };
  engine->spool().note({{{"file/s/1:1", "a place", false}}, {}});
  close(true, "e");
  Texts expected;
  const auto refuses = [&](const char* what, const std::string& change, const std::string& pipelines,
                           const std::string& source = "s") {
    const auto before = state();
    destinations = change;
    const std::string why = engine->reload(with_pipelines(pipelines, source));
    EXPECT_NE(why, "") << what;
    EXPECT_EQ(state(), before) << what << ": " << why;
    expected.emplace_back(what);
    EXPECT_TRUE(engine->submit(batch({what}))) << what;
    EXPECT_TRUE(got(expected)) << what;
  };
  const std::string renamed =
      "{ x: { index: {}, was: d }, e: { index: {}, retry: { first: 1ms, longest: 5ms } } }";
  const std::string to_x = "{ p2: { was: p, from: [s], to: [x] }, q: { from: [s], to: [e] } }";
  server = ", workers: 3";
  refuses("an option that a restart takes", two, "{ p: { from: [s], to: [d] }, q: { from: [s], to: [e] } }");
  server = "";
  spool_disk.room = 0;
  const auto before = state();
  destinations = renamed;
  EXPECT_NE(engine->reload(with_pipelines(to_x)), "") << "no room for the names";
  more = ", was: s";
  EXPECT_NE(engine->reload(with_pipelines("{ p: { from: [t], to: [x] }, q: { from: [t], to: [e] } }", "t")),
            "");
  more = "";
  EXPECT_EQ(state(), before);
  spool_disk.room = UINT64_MAX;
  refuses("events wait for what goes", "{ d: { index: {}, retry: { first: 1ms, longest: 5ms } } }",
          "{ p: { from: [s], to: [d] } }");
  close(false, "e");
  engine.reset();
}

}  // namespace
}  // namespace dingle
