// Steps with memory in the engine: exactly once, over restarts, changes of the configuration and full disks.

#include <csignal>

#include "core/time/instant.h"
#include "tests/agent/engine_fixture.h"

namespace dingle {
namespace {

struct SetClock final : Clock {
  std::atomic<std::int64_t> now{1'700'000'000 * kSecond};
  std::int64_t wall() const override { return now; }
  std::int64_t steady() const override { return now; }
  void pass(std::int64_t seconds) { now += seconds * kSecond; }
};

class MemoriesTest : public EngineTest {
 protected:
  SetClock time;
  static constexpr const char* kParse = "parse: { templates: ['{ship:word} {n:int}'] }";
  const std::string fold =
      std::string("[ ") + kParse + ", fold: { by: [ship], window: 10s, grace: 5s, values: { n: sum(n) } } ]";
  MemoriesTest() {
    clock = &time;
    steps = fold;
  }
  void lines(const Texts& all) { ASSERT_TRUE(engine->submit(batch(all, time.now))); }
  // Windows that are due at that time were sent.
  void later(std::int64_t seconds) {
    time.pass(seconds);
    engine->tick_if_due();
  }
  static void refuse(std::set<std::string> bodies) {
    std::lock_guard lock(taker("d").mutex);
    taker("d").refuses = std::move(bodies);
  }
  bool settled(std::int64_t merged) {
    return until([&] { return counter("pipeline/p/merged") == merged; });
  }
  std::int64_t held() {
    std::int64_t sum = 0;
    for (const auto& m : engine->flowing().memories) {
      EXPECT_EQ(counter(m.held_counter), static_cast<std::int64_t>(m.size.held));
      sum += static_cast<std::int64_t>(m.size.held);
    }
    return sum;
  }
  void balanced() {
    EXPECT_EQ(counter("pipeline/p/merged"),
              counter("pipeline/p/stood_for") + held() + counter("pipeline/p/given_up"));
    EXPECT_EQ(counter("pipeline/p/in") + counter("pipeline/p/created"),
              counter("pipeline/p/out") + counter("pipeline/p/dropped") + counter("pipeline/p/merged"));
    EXPECT_EQ(counter("source/s/unbalanced") + counter("ticks_unbalanced"), 0);
  }
  void restart(std::shared_ptr<const Configuration> c) {
    engine->stop(5s);
    engine.reset();
    start(std::move(c));
  }
};

TEST_F(MemoriesTest, WindowsAreSentWhenTheyAreDue) {
  start();
  lines({"tern 1", "gull 2", "tern 3"});
  ASSERT_TRUE(settled(3));
  EXPECT_EQ(held(), 3);
  later(14);
  EXPECT_EQ(held(), 3) << "its end lies less than the grace back";
  later(1);
  EXPECT_TRUE(got({"ship=tern n=4 stands_for=2", "ship=gull n=2 stands_for=1"}));
  EXPECT_EQ(held(), 0);
  balanced();
  later(100);
  EXPECT_EQ(bodies().size(), 2u);
}

TEST_F(MemoriesTest, WhatComesLateIsAFurtherPart) {
  steps =
      "[ parse: { templates: ['{ship:word} {n:int} {at:rfc3339}'] }, time: { field: at }, "
      "fold: { by: [ship], window: 10s, grace: 5s, values: { n: sum(n) } }, set: { fields: { body: 'part "
      "{dingle.part}: {n}' } } ]";
  start();
  const std::string at = format_rfc3339(time.now);
  lines({"tern 1 " + at});
  ASSERT_TRUE(settled(1));
  later(20);
  ASSERT_TRUE(got({"part 1: 1"}));
  lines({"tern 2 " + at});
  ASSERT_TRUE(settled(2));
  later(5);
  EXPECT_TRUE(got({"part 1: 1", "part 2: 2"}));
  balanced();
}

TEST_F(MemoriesTest, WhatIsHeldSurvivesARestart) {
  start();
  lines({"tern 1", "gull 2"});
  ASSERT_TRUE(settled(2));
  restart(configuration());
  EXPECT_EQ(held(), 2);
  lines({"tern 4"});
  ASSERT_TRUE(settled(3));
  later(20);
  EXPECT_TRUE(got({"ship=gull n=2 stands_for=1", "ship=tern n=5 stands_for=2"}));
  balanced();
}

TEST_F(MemoriesTest, ALostRecordDoesNotTakeWithItWhatTheOthersMean) {
  start();
  lines({"tern 1"});
  ASSERT_TRUE(settled(1));
  const auto memory = engine->spool().state_with_prefix("memory/");
  ASSERT_EQ(memory.size(), 2u) << "its meaning, and a window";
  engine->spool().note({{{memory.begin()->first, "", true}}, {}});  // as if the record with it were damaged
  lines({"gull 2"});
  ASSERT_TRUE(settled(2));
  restart(configuration());
  EXPECT_EQ(held(), 2);
  balanced();
}

TEST_F(MemoriesTest, AReloadThatChangesNothingOfItGoesOn) {
  start();
  lines({"tern 1"});
  ASSERT_TRUE(settled(1));
  more = ", zone: Europe/Stockholm";
  ASSERT_EQ(engine->reload(configuration()), "");
  EXPECT_EQ(held(), 1);
  lines({"tern 2"});
  ASSERT_TRUE(settled(2));
  later(20);
  EXPECT_TRUE(got({"ship=tern n=3 stands_for=2"}));
  balanced();
}

TEST_F(MemoriesTest, AReloadThatGivesItAnotherMeaningSendsWhatIsThereFirst) {
  start();
  lines({"tern 1", "tern 5"});
  ASSERT_TRUE(settled(2));
  steps = std::string("[ ") + kParse +
          ", fold: { by: [ship], window: 10s, grace: 5s, values: { most: max(n) } } ]";
  ASSERT_EQ(engine->reload(configuration()), "");
  EXPECT_TRUE(got({"ship=tern n=6 stands_for=2"}));
  EXPECT_EQ(held(), 0);
  lines({"tern 3"});
  ASSERT_TRUE(settled(3));
  later(20);
  EXPECT_TRUE(got({"ship=tern n=6 stands_for=2", "ship=tern most=3 stands_for=1"}));
  steps = "[]";
  ASSERT_EQ(engine->reload(configuration()), "");
  EXPECT_TRUE(engine->spool().state_with_prefix("memory/").empty());
  balanced();
}

class RenamedMemories : public MemoriesTest {
 protected:
  // The pipeline and its step by those names, and by former ones if they are given.
  std::shared_ptr<const Configuration> named(const std::string& pipeline, const std::string& step,
                                             const std::string& was = "", const std::string& step_was = "",
                                             const std::string& others = "") {
    const auto former = [](const std::string& w) { return w.empty() ? "" : ", was: " + w; };
    return with_pipelines("{ " + pipeline + ": { from: [s]" + former(was) + ", steps: [ " + kParse +
                          ", fold: { name: " + step + former(step_was) +
                          ", by: [ship], window: 10s, grace: 5s, values: { n: sum(n) } } ], to: [d] }" +
                          others + " }");
  }
  static std::string other(const std::string& pipeline) {
    return ", " + pipeline + ": { from: [nobody], steps: [ fold: { name: b, window: 10s } ], to: [d] }";
  }
  // What was folded before the change comes with what was folded after it.
  void goes_on(const std::string& pipeline) {
    EXPECT_EQ(held(), 1);
    lines({"tern 2"});
    ASSERT_TRUE(until([&] { return counter("pipeline/" + pipeline + "/merged") == 2; }));
    later(20);
    EXPECT_TRUE(got({"ship=tern n=3 stands_for=2"}));
    EXPECT_EQ(counter("pipeline/" + pipeline + "/in"), 2);
    EXPECT_EQ(counter("pipeline/" + pipeline + "/merged"), 2);
    EXPECT_EQ(counter("pipeline/" + pipeline + "/stood_for"), 2);
  }
};

TEST_F(RenamedMemories, ThePipeline) {
  start(named("p", "a"));
  lines({"tern 1"});
  ASSERT_TRUE(settled(1));
  ASSERT_EQ(engine->reload(named("q", "a", "p")), "");
  ASSERT_EQ(engine->reload(named("q", "a", "p")), "") << "`was` may stay";
  restart(named("q", "a", "p"));
  goes_on("q");
}

TEST_F(RenamedMemories, TheStep) {
  start(named("p", "a"));
  lines({"tern 1"});
  ASSERT_TRUE(settled(1));
  ASSERT_EQ(engine->reload(named("p", "b", "", "a")), "");
  restart(named("p", "b", "", "a"));
  goes_on("p");
}

TEST_F(RenamedMemories, BothWhileTheProgramIsDown) {
  start(named("p", "a"));
  lines({"tern 1"});
  ASSERT_TRUE(settled(1));
  restart(named("q", "b", "p", "a"));
  goes_on("q");
}

TEST_F(RenamedMemories, ToNamesThatOnceExisted) {
  start(named("p", "a", "", "", other("q")));
  ASSERT_EQ(engine->reload(named("p", "a")), "");
  lines({"tern 1"});
  ASSERT_TRUE(settled(1));
  ASSERT_EQ(engine->reload(named("q", "b", "p", "a")), "");
  goes_on("q");
}

TEST_F(RenamedMemories, ToOneThatRunsSendsWhatIsThere) {
  start(named("p", "a", "", "", other("q")));
  lines({"tern 1"});
  ASSERT_TRUE(settled(1));
  ASSERT_EQ(engine->reload(named("q", "a", "p")), "");
  EXPECT_TRUE(got({"ship=tern n=1 stands_for=1"}));
  EXPECT_EQ(held(), 0);
  lines({"tern 2"});
  ASSERT_TRUE(until([&] { return counter("pipeline/q/merged") == 1; }));
  EXPECT_EQ(counter("pipeline/q/in"), 1);
  EXPECT_EQ(counter("pipeline/p/stood_for"), 1);
}

TEST_F(RenamedMemories, ItsLettersGoThroughThePipelineByItsNewName) {
  refuse({"gull 7"});
  start(with_pipelines("{ p: { from: [s], to: [d] } }"));
  lines({"gull 7"});
  ASSERT_TRUE(until([&] { return !engine->letters().by_reason({}).empty(); }));
  refuse({});
  ASSERT_EQ(engine->reload(with_pipelines("{ q: { was: p, from: [s], steps: [ " + std::string(kParse) +
                                          " ], to: [d] } }")),
            "");
  EXPECT_EQ(engine->resend({}, true).letters, 1u);
  EXPECT_TRUE(got({"gull 7"}));
  EXPECT_EQ(counter("pipeline/q/in"), 2);
}

TEST_F(MemoriesTest, NoTwoEventsHaveOneIdentity) {
  const std::string most = std::string("[ ") + kParse +
                           ", fold: { by: [ship], window: 10s, grace: 5s, values: { most: max(n) } } ]";
  start();
  for (int n = 1; n <= 5; ++n) {
    lines({"tern 1", "gull 1"});
    ASSERT_TRUE(settled(2 * n));
    if (n == 2) restart(configuration());
    if (n == 3) {  // gone, and there again
      steps = "[]";
      ASSERT_EQ(engine->reload(configuration()), "");
    }
    steps = n % 2 == 0 ? fold : most;
    ASSERT_EQ(engine->reload(configuration()), "");
  }
  ASSERT_TRUE(until([&] { return bodies().size() == 10; }));
  std::lock_guard lock(taker("d").mutex);
  EXPECT_EQ(std::set<std::string>(taker("d").ids.begin(), taker("d").ids.end()).size(), 10u);
}

TEST_F(MemoriesTest, WhatChangedWhileTheProgramWasDownIsGivenUpAndTold) {
  start();
  lines({"tern 1", "tern 5"});
  ASSERT_TRUE(settled(2));
  steps = std::string("[ ") + kParse + " ]";
  restart(configuration());
  EXPECT_EQ(counter("pipeline/p/given_up"), 2);
  std::string told;
  for (const auto& problem : engine->problems().all()) told += problem.text + "\n";
  EXPECT_NE(told.find("`fold` is gone or means something else since the last start, and what ran then is not "
                      "known: 1 entry of it, of 2 events"),
            std::string::npos)
      << told;
  EXPECT_TRUE(engine->spool().state_with_prefix("memory/").empty());
  balanced();
}

TEST_F(MemoriesTest, WhatChangedWhileTheProgramWasDownIsSentByWhatRanBefore) {
  const auto before = configuration();
  start(before);
  lines({"tern 1", "tern 5"});
  ASSERT_TRUE(settled(2));
  engine->stop(5s);
  engine.reset();
  steps = std::string("[ ") + kParse + " ]";
  start(configuration(), before);
  EXPECT_TRUE(got({"ship=tern n=6 stands_for=2"}));
  EXPECT_EQ(counter("pipeline/p/given_up"), 0);
  EXPECT_TRUE(engine->spool().state_with_prefix("memory/").empty());
  lines({"gull 2"});
  EXPECT_TRUE(got({"ship=tern n=6 stands_for=2", "gull 2"}));
  balanced();
}

TEST_F(MemoriesTest, MadeEventsGoThroughTheStepsBehindAndThroughChains) {
  start(with_pipelines(
      "{ p: { from: [s], steps: " + fold.substr(0, fold.size() - 1) +
      ", set: { fields: { level: high } }, drop: { where: \"ship = 'gull'\" } ], to: [{ d: 'n > 100' }] }, "
      "q: { from: [p], where: 'n > 3', steps: [ set: { fields: { body: '{ship} {level} {n} again' } } ], to: "
      "[d] } }"));
  lines({"tern 4", "gull 9", "auk 2"});
  ASSERT_TRUE(settled(3));
  later(20);
  EXPECT_TRUE(got({"tern high 4 again"}));
  EXPECT_EQ(counter("pipeline/p/dropped"), 1);
  EXPECT_EQ(counter("pipeline/q/in"), 1);
  balanced();
}

TEST_F(MemoriesTest, BatchesTakeTheirTurnsInTheOrderOfTickets) {
  server = ", workers: 4";
  steps = std::string("[ ") + kParse +
          ", unique: { by: [ship], within: 1h }, fold: { by: [ship], values: { n: sum(n), first: first(n) }, "
          "window: 1h } ]";
  start();
  std::int64_t sum = 0;
  for (int i = 0; i < 300; ++i) {
    Texts all;
    for (int k = 0; k < 20; ++k)
      all.push_back("ship" + std::string(1, static_cast<char>('a' + i % 26)) +
                    std::string(1, static_cast<char>('a' + i / 26)) + " " + std::to_string(i * 20 + k));
    sum += i * 20;
    lines(all);
  }
  ASSERT_TRUE(until([&] { return counter("pipeline/p/in") == 6000; }));
  EXPECT_EQ(counter("pipeline/p/dropped"), 5700) << "the first of each batch passes";
  EXPECT_EQ(held(), 300);
  later(3610);
  ASSERT_TRUE(until([&] { return counter("pipeline/p/stood_for") == 300; }));
  balanced();
  ASSERT_TRUE(until([&] { return bodies().size() == 300; }));
  std::int64_t got_sum = 0;
  for (const std::string& body : bodies()) got_sum += std::atoi(body.c_str() + body.find("first=") + 6);
  EXPECT_EQ(got_sum, sum);
}

TEST_F(MemoriesTest, AFullDiskHoldsUpWhatIsHandedInAndAChange) {
  start();
  lines({"tern 1"});
  ASSERT_TRUE(settled(1));
  rlimit before{};
  ::getrlimit(RLIMIT_FSIZE, &before);
  const auto previous = ::signal(SIGXFSZ, SIG_IGN);
  rlimit none = before;
  none.rlim_cur = 0;
  ::setrlimit(RLIMIT_FSIZE, &none);
  lines({"tern 10"});
  ASSERT_TRUE(until([&] { return engine->paused(); }));
  EXPECT_NE(engine->reload(configuration()).find("cannot be written"), std::string::npos);
  ::setrlimit(RLIMIT_FSIZE, &before);
  ::signal(SIGXFSZ, previous);
  ASSERT_TRUE(settled(2));
  EXPECT_EQ(engine->reload(configuration()), "");
  later(20);
  EXPECT_TRUE(got({"ship=tern n=11 stands_for=2"}));
  balanced();
}

TEST_F(MemoriesTest, EventsFromThePastGoAround) {
  refuse({"other 7"});
  steps = std::string("[ ") + kParse +
          ", fold: { where: \"ship = 'tern'\", by: [ship], window: 10s, grace: 5s } ]";
  start();
  lines({"tern 1", "other 7"});
  ASSERT_TRUE(until([&] { return !engine->letters().by_reason({}).empty(); }));
  refuse({});
  EXPECT_EQ(engine->resend({}, true).letters, 1u);
  EXPECT_TRUE(got({"other 7"}));
  EXPECT_EQ(counter("pipeline/p/passed_around"), 1);
  EXPECT_EQ(held(), 1);
}

TEST_F(MemoriesTest, AWindowThatWasRefusedIsSentAgainAsItWas) {
  refuse({"ship=tern stands_for=1"});
  steps = std::string("[ ") + kParse + ", fold: { by: [ship], window: 10s, grace: 5s } ]";
  start();
  lines({"tern 1"});
  ASSERT_TRUE(settled(1));
  later(20);
  ASSERT_TRUE(until([&] { return !engine->letters().by_reason({}).empty(); }));
  refuse({});
  EXPECT_NE(engine->resend({}, true).problem.find("was made by a step"), std::string::npos);
  EXPECT_EQ(engine->resend({}, false).letters, 1u);
  EXPECT_TRUE(got({"ship=tern stands_for=1"}));
}

}  // namespace
}  // namespace dingle
