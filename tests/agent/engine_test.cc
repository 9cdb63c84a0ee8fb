#include "tests/agent/engine_fixture.h"

namespace dingle {
namespace {

TEST_F(EngineTest, CountsWhatItTookAndWhatBecameOfIt) {
  steps = "[ parse: { templates: ['gate {n:int}', 'berth {n:int}'] }, drop: { where: 'n > 8' } ]";
  start();
  ASSERT_TRUE(engine->submit(batch({"gate 1", "berth 2", "gate 9", "what?"})));
  EXPECT_TRUE(got({"gate 1", "berth 2", "what?"}));
  const std::string step = "step/" + engine->configuration()->version + "/p/";
  for (const auto& [counted, n] : std::map<std::string, std::int64_t>{{"source/s/bytes", 24},
                                                                      {"source/s/events", 4},
                                                                      {"source/s/leftovers", 0},
                                                                      {"pipeline/p/in", 4},
                                                                      {"pipeline/p/out", 3},
                                                                      {"pipeline/p/dropped", 1},
                                                                      {"pipeline/p/unmatched", 1},
                                                                      {step + "0/in", 4},
                                                                      {step + "0/failed", 1},
                                                                      {step + "0/template/1", 2},
                                                                      {step + "0/template/2", 1},
                                                                      {step + "1/in", 4},
                                                                      {step + "1/dropped", 1},
                                                                      {step + "1/out", 3}})
    EXPECT_EQ(counter(counted), n) << counted;
  std::uint64_t others = 0;
  const auto shapes = engine->unmatched().shapes("p", &others);
  ASSERT_EQ(shapes.size(), 1u);
  EXPECT_EQ(shapes[0].lines, Texts{"what?"});
  EXPECT_EQ(shapes[0].column, 1u);
  const auto newest = engine->newest_lines().of("s", 2);
  ASSERT_EQ(newest.size(), 2u);
  EXPECT_EQ(newest[0].text + ", " + newest[1].text, "gate 9, what?");
}

TEST_F(EngineTest, TellsThatAPipelineSetsNoTimeThoughItsLinesCarryOne) {
  const std::string pipelines =
      "{ q: { from: [s], where: \"body like 'gate%'\", to: [d] }, "
      "p: { from: [s], where: \"body like '2026%'\", steps: STEPS, to: [d] } }";
  const auto with = [&](const std::string& with_steps) {
    std::string text = pipelines;
    return with_pipelines(text.replace(text.find("STEPS"), 5, with_steps));
  };
  start(with("[]"));
  Texts lines;
  for (int i = 10; i < 40; ++i) {
    lines.push_back("gate " + std::to_string(i));
    lines.push_back("2026-11-23T10:00:" + std::to_string(i) + "Z Tern docked");
  }
  ASSERT_TRUE(engine->submit(batch(lines)));
  const auto told = [&](const std::string& about) -> std::string {
    for (const Problems::Problem& p : engine->problems().all())
      if (p.about == about) return p.text;
    return "";
  };
  EXPECT_TRUE(until([&] { return told("pipeline p: time") != ""; }));
  EXPECT_NE(told("pipeline p: time").find("add `time: { field: "), std::string::npos)
      << told("pipeline p: time");
  EXPECT_EQ(told("pipeline q: time"), "");  // was looked at before
  EXPECT_EQ(engine->reload(with("[ parse: { templates: ['{at:rfc3339} {:rest}'] }, time: { field: at } ]")),
            "");
  EXPECT_TRUE(until([&] { return told("pipeline p: time") == ""; }));
}

// Of many a part is looked at, which stands for all.
TEST_F(EngineTest, SamplesOfManyUnmatchedLinesStandForAllOfThem) {
  steps = "[ parse: { templates: ['gate {n:int}'] } ]";
  start();
  Texts lines;
  for (int i = 0; i < 1000; ++i) lines.push_back("berth " + std::to_string(i));
  ASSERT_TRUE(engine->submit(batch(lines)));
  ASSERT_TRUE(until([&] { return counter("pipeline/p/unmatched") == 1000; }));
  std::uint64_t others = 0, all = 0;
  for (const auto& shape : engine->unmatched().shapes("p", &others)) all += shape.count;
  EXPECT_EQ(all + others, 1000u);
}

TEST_F(EngineTest, EveryEventGetsItsOwnDaysName) {
  steps = "[ parse: { templates: ['{at:rfc3339}{:rest}'] }, time: { field: at } ]";
  start();
  const std::string a = "2026-11-23T10:00:00Z", b = "2026-11-24T10:00:00Z", c = "2026-11-23T11:00:00Z",
                    wild = "1700-01-01T00:00:00Z";
  ASSERT_TRUE(engine->submit(batch({a, a, b, b, c, wild, wild}, system_now())));
  EXPECT_TRUE(got({a, a, b, b, c, wild, wild}));
  Texts names = taker("d").names;
  EXPECT_EQ(Texts(names.begin(), names.begin() + 5),
            (Texts{"n-2026-11-23", "n-2026-11-23", "n-2026-11-24", "n-2026-11-24", "n-2026-11-23"}));
  EXPECT_EQ(names[5], names[6]);
  EXPECT_EQ(counter("pipeline/p/implausible_times"), 2);
}

TEST_F(EngineTest, ABatchOnWhichItDiedTwiceReachesNoStepAndIsTold) {
  const SourceBatch deadly = batch({"poison"});
  std::filesystem::create_directories(folder + "/data");
  for (int i = 0; i < 2; ++i) {
    const pid_t child = ::fork();
    if (child == 0) {
      const rlimit none{0, 0};
      ::setrlimit(RLIMIT_CORE, &none);
      const Deaths deaths(folder + "/data");
      const Deaths::Worker worker;
      const Deaths::Working working(deadly);
      std::abort();
    }
    int status = 0;
    ASSERT_EQ(::waitpid(child, &status, 0), child);
  }
  start();
  ASSERT_TRUE(engine->submit(deadly));
  ASSERT_TRUE(engine->submit(batch({"healthy"})));
  EXPECT_TRUE(got({"healthy"}));
  EXPECT_EQ(counter("source/s/set_apart"), 1);
  EXPECT_EQ(counter("pipeline/p/in"), 1);
  std::string told;
  for (const auto& p : engine->problems().all())
    if (p.about == "source s: set apart") told = p.text;
  EXPECT_NE(told.find("1 line from position 0"), std::string::npos) << told;
  // Where it cannot be set apart it is not lost: it is tried.
  std::filesystem::remove_all(folder + "/data/set-apart");
  std::ofstream(folder + "/data/set-apart") << "no folder";
  ASSERT_TRUE(engine->submit(deadly));
  EXPECT_TRUE(got({"healthy", "poison"}));
}

TEST_F(EngineTest, ABatchThatBecomesTooMuchIsSetApartAndTold) {
  server = ", spool: { limit: 1MiB }";
  std::string many;
  for (int i = 0; i < 32; ++i) many += (many.empty() ? "" : ", ") + ("f" + std::to_string(i)) + ": '{body}'";
  steps = "[ set: { where: \"body like 'long%'\", fields: { " + many + " } } ]";
  start();
  ASSERT_TRUE(engine->submit(batch({"long" + std::string(600'000, 'x'), "short"})));
  ASSERT_TRUE(engine->submit(batch({"next"})));
  EXPECT_TRUE(got({"next"}));
  EXPECT_EQ(counter("source/s/set_apart"), 2);
  EXPECT_EQ(counter("source/s/unbalanced"), 0);
  std::string told;
  for (const auto& p : engine->problems().all())
    if (p.about == "source s: set apart") told = p.text;
  EXPECT_NE(told.find("2 lines from position 0 on: what pipelines make of these is more than a record"),
            std::string::npos)
      << told;
  const std::string path = told.substr(told.find("they are in ") + 12);
  std::ifstream file(path.substr(0, path.find(", and nowhere")));
  std::string first, second;
  std::getline(file, first), std::getline(file, second);
  EXPECT_GT(first.size(), 600'000u);
  EXPECT_EQ(second, R"({"source":"s","position":600005,"line":"short"})");
}

TEST_F(EngineTest, KeepsTheOrderOfBatchesWhateverTheWorkers) {
  server = ", workers: 3";
  start();
  Texts all;
  for (int i = 0; i < 300; ++i) {
    all.push_back("line " + std::to_string(i));
    ASSERT_TRUE(engine->submit(batch({all.back()})));
  }
  EXPECT_TRUE(got(all));
}

TEST_F(EngineTest, WhatNoPipelineTakesIsLeftOver) {
  start();
  SourceBatch other = batch({"one", "two"}, kDay, "nobody");
  ASSERT_TRUE(engine->submit(std::move(other)));
  EXPECT_TRUE(until([&] { return counter("source/nobody/leftovers") == 2; }));
}

// A step that loses an event, doubles one, or both at once, under counts that agree with each other.
struct Faulty final : Step {
  bool loses, doubles;
  Faulty(bool l, bool d) : loses(l), doubles(d) {}
  void run(Batch& batch, StepTally& tally) const override {
    each(batch, tally, [&](Event&) { ++tally.out; });
    const Event one = batch.events.front();
    if (loses) batch.events.pop_back();
    if (doubles) batch.events.push_back(one);
  }
};

TEST_F(EngineTest, ABatchThatDoesNotAddUpIsAppendedAndTold) {
  for (const auto& [loses, doubles] : {std::pair{true, false}, {false, true}, {true, true}}) {
    std::filesystem::remove_all(folder + "/data");
    auto faulty = std::make_shared<Configuration>(*configuration());
    auto pipeline = std::make_shared<Pipeline>();
    pipeline->name = "p";
    pipeline->add(std::make_unique<Faulty>(loses, doubles));
    faulty->pipelines[0].pipeline = faulty->flow.nodes[0].pipeline = pipeline;
    start(faulty);
    ASSERT_TRUE(engine->submit(batch({"a", "b", "c"})));
    const Texts expected = loses && doubles ? Texts{"a", "b", "a"}
                           : loses          ? Texts{"a", "b"}
                                            : Texts{"a", "b", "c", "a"};
    EXPECT_TRUE(got(expected));
    EXPECT_GT(counter("source/s/unbalanced"), 0) << loses << doubles;
    bool told = false;
    for (const auto& p : engine->problems().all())
      told |= p.about == "source s: balance" &&
              p.text.find("does not agree with what it held") != std::string::npos;
    EXPECT_TRUE(told);
    engine.reset();
    taker("d").bodies.clear();
  }
}

TEST_F(EngineTest, EventsOfARecordMayBeCompressed) {
  server = ", spool: { compression: zstd }";
  close(true);
  start();
  const std::string line(10'000, 'x');
  ASSERT_TRUE(engine->submit(batch({line, line, line})));
  EXPECT_TRUE(until([&] { return waiting().events == 3; }));
  EXPECT_LT(waiting().bytes, 3'000u);
  close(false);
  EXPECT_TRUE(got({line, line, line}));
}

TEST_F(EngineTest, AFullQueuePausesItsSourceAndNoOther) {
  destinations =
      "{ d: { index: { name: 'n-{day}' }, queue: { limit: 1MiB }, retry: { first: 1ms, longest: 5ms } } }";
  close(true);
  start();
  const std::string line(100'000, 'x');
  std::atomic<int> taken{0};
  std::thread source([&] {
    for (int i = 0; i < 30; ++i) taken += engine->submit(batch({line}));
  });
  EXPECT_TRUE(until([&] { return engine->sources()[0].waits_for == "d" && waiting().bytes > 1'048'576; }));
  const std::uint64_t bytes = waiting().bytes;
  EXPECT_LE(bytes, 1'048'576u + 110'000u) << "one batch more at most";
  EXPECT_LT(taken, 12);
  SourceBatch other = batch({"other"}, kDay, "nobody");
  EXPECT_TRUE(engine->submit(std::move(other))) << "it feeds no full queue";
  const auto begin = std::chrono::steady_clock::now();
  EXPECT_EQ(engine->submit_durably(batch({line}), 30ms, 1s), Intake::Taken::no_room);
  EXPECT_LT(std::chrono::steady_clock::now() - begin, 5s);
  close(false);
  source.join();
  EXPECT_EQ(taken, 30);
  EXPECT_TRUE(until([&] { return waiting().events == 0; }));
  EXPECT_EQ(engine->sources()[0].waits_for, "");
  EXPECT_EQ(engine->submit_durably(batch({"last"}), 1s, 10s), Intake::Taken::durable);
}

TEST_F(EngineTest, ShedsTheOldestOrTheNewest) {
  for (const std::string overflow : {"shed_oldest", "shed_newest"}) {
    destinations = "{ d: { index: { name: 'n-{day}' }, queue: { limit: 1MiB, overflow: " + overflow +
                   " }, retry: { first: 1ms, longest: 5ms } } }";
    close(true);
    start();
    for (int i = 0; i < 30; ++i) {
      ASSERT_TRUE(engine->submit(batch({std::to_string(i) + " " + std::string(100'000, 'x')})));
      EXPECT_TRUE(i != 0 || until([&] { return engine->destinations()[0].delivery.failing; }))
          << "it has this one";
    }
    const std::string counted = counter_of_destination(engine->spool().destination("d"), overflow.c_str());
    EXPECT_TRUE(until([&] { return counter(counted) + static_cast<std::int64_t>(waiting().events) == 30; }))
        << overflow << ": " << counter(counted) << " and " << waiting().events;
    EXPECT_GE(waiting().events, 9u) << "no more than needed";
    EXPECT_LE(waiting().bytes, 1'048'576u + 110'000u) << "what is being delivered is not shed";
    close(false);
    EXPECT_TRUE(until([&] { return waiting().events == 0; }));
    engine.reset();
    EXPECT_GT(taker("d").bodies.size(), 8u);
    EXPECT_LT(taker("d").bodies.size(), 13u);
    EXPECT_EQ(taker("d").bodies.back().substr(0, 3) == "29 ", overflow == "shed_oldest");
    taker("d").bodies.clear();
    std::filesystem::remove_all(folder + "/data");
  }
}

TEST_F(EngineTest, AStopEndsADestinationThatHangs) {
  taker("d").hangs = true;
  start();
  ASSERT_TRUE(engine->submit(batch({"one"})));
  EXPECT_TRUE(until([&] { return waiting().events == 1; }));
  const auto begin = std::chrono::steady_clock::now();
  engine->stop(50ms);
  EXPECT_LT(std::chrono::steady_clock::now() - begin, 10s);
  EXPECT_TRUE(taker("d").cancelled);
  EXPECT_FALSE(engine->submit(batch({"two"})));
  engine.reset();
  taker("d").hangs = false;
  start();
  EXPECT_TRUE(got({"one"})) << "it waited";
}

TEST_F(EngineTest, AStopWaitsNoLongerThanIsNeeded) {
  start();
  ASSERT_TRUE(engine->submit(batch({"one"})));
  const auto begin = std::chrono::steady_clock::now();
  engine->stop(30s);
  EXPECT_LT(std::chrono::steady_clock::now() - begin, 15s);
  EXPECT_EQ(taker("d").bodies, Texts{"one"});
}

TEST_F(EngineTest, EventsGoWhereTheConditionsOfToHold) {
  steps =
      "[ parse: { templates: ['{at:rfc3339} gate {n:int}'] }, time: { field: at }, drop: { where: 'n = 7', "
      "name: sevens } ]";
  destinations = "{ d: { index: { name: 'n-{day}' } }, e: { index: { name: 'e-{day}' } } }";
  start("[d, { e: 'n > 5' }]");
  const std::string one = "2026-11-23T10:00:00Z gate 1", nine = "2026-11-24T10:00:00Z gate 9",
                    ten = "2026-11-25T10:00:00Z gate 10";
  ASSERT_TRUE(engine->submit(batch({one, nine, "what?", "2026-11-23T10:00:00Z gate 7", ten}, system_now())));
  EXPECT_TRUE(got({one, nine, "what?", ten}));
  EXPECT_TRUE(got({nine, ten}, "e")) << "where it is unknown it does not hold";
  EXPECT_EQ(taker("e").names, (Texts{"e-2026-11-24", "e-2026-11-25"}));
  EXPECT_EQ(taker("d").names[0], "n-2026-11-23");
  EXPECT_EQ(counter("pipeline/p/unrouted"), 0);
  EXPECT_EQ(waiting("e").appended, 2u);
  EXPECT_EQ(engine->reload(configuration("[{ d: 'n < 5', e: 'n > 9' }]")), "");
  ASSERT_TRUE(engine->submit(batch({nine, one, ten, nine}, system_now())));
  EXPECT_TRUE(got({one, nine, "what?", ten, one}));
  EXPECT_TRUE(got({nine, ten, ten}, "e"));
  EXPECT_EQ(counter("pipeline/p/unrouted"), 2);
  EXPECT_EQ(counter("pipeline/p/out"), 8);
}

TEST_F(EngineTest, APipelineLeavesToOthersWhatItsUnlessHolds) {
  start(with_pipelines(R"({ p: { from: [s], where: "body like 'gate%'", unless: "body like '%9'", to: [d] },
                             q: { from: [s], unless: "body like 'gate%'", to: [d] } })"));
  ASSERT_TRUE(engine->submit(batch({"gate 1", "gate 9", "berth 4"})));
  EXPECT_TRUE(got({"gate 1", "berth 4"}));
  EXPECT_EQ(counter("pipeline/p/in"), 1);
  EXPECT_EQ(counter("pipeline/q/in"), 1);
  EXPECT_EQ(counter("source/s/leftovers"), 1);
}

// What it was made of keeps its id, whatever else is made of it.
TEST_F(EngineTest, EventsOfOneLineAreBranchesOfIt) {
  start(with_pipelines(R"({ p: { from: [s], where: "body <> 'b'", to: [d] }, q: { from: [s], to: [d] } })"));
  ASSERT_TRUE(engine->submit(batch({"a", "b", "c"})));
  EXPECT_TRUE(got({"a", "c", "a", "b", "c"}));
  Spool::Read read;
  ASSERT_TRUE(engine->spool().read(engine->spool().destination("d"), 0, 1s, read));
  EventDecoder decoder;
  std::vector<SpooledEvent> events;
  ASSERT_TRUE(decoder.decode(read.batch.events, 0, events));
  std::string branches;
  for (const SpooledEvent& e : events) branches += std::string(e.body) + std::to_string(e.branch) + " ";
  EXPECT_EQ(branches, "a0 c0 a1 b0 c1 ");
}

TEST_F(EngineTest, StatesTellRatesAndLatencies) {
  start();
  for (int i = 0; i < 200; ++i)
    ASSERT_TRUE(engine->submit(batch({std::to_string(i)}, system_now() - kSecond)));
  EXPECT_TRUE(until([&] {
    std::lock_guard lock(taker("d").mutex);
    return taker("d").bodies.size() == 200;
  }));
  const auto told = [&] {
    const auto state = engine->destinations()[0];
    return state.latency_count == 200 && state.delivery.delivered == 200;
  };
  EXPECT_TRUE(until(told)) << engine->destinations()[0].latency_count;
  const auto state = engine->destinations()[0];
  EXPECT_GT(state.latency_p50, 0.9);
  EXPECT_GE(state.latency_p99, state.latency_p50);
  EXPECT_GT(state.latency_sum, 190);
  EXPECT_EQ(state.latency_at_most.front().second, 0u);
  EXPECT_EQ(state.latency_at_most.back().second, 200u);
  EXPECT_EQ(state.delivery.delivered, 200u);
  EXPECT_EQ(state.kind, "takes");
  EXPECT_TRUE(until([&] { return engine->destinations()[0].out_rate > 0; }));
}

TEST_F(EngineTest, LettersAreSentAgainAsTheyWereOrThroughThePipeline) {
  steps = "[ parse: { templates: ['gate {n:int}'] } ]";
  taker("d").refuses = {"gate 2", "gate 3"};
  start();
  ASSERT_TRUE(engine->submit(batch({"gate 1", "gate 2", "gate 3"})));
  const std::uint32_t id = engine->spool().destination("d");
  EXPECT_TRUE(until([&] { return engine->letters().count(id) == 2; }));
  EXPECT_EQ(engine->letters().reasons(id, 5).size(), 2u);
  {
    std::lock_guard lock(taker("d").mutex);
    taker("d").refuses.clear();
  }
  EXPECT_EQ(engine->resend({.reason = "gate 2"}, false).letters, 1u);
  EXPECT_TRUE(got({"gate 1", "gate 2"}));
  EXPECT_EQ(engine->letters().count(id), 1u);
  EXPECT_EQ(engine->letters().reasons(id, 5).size(), 1u) << "sums follow";
  EXPECT_EQ(engine->resend({}, true).letters, 1u);
  EXPECT_TRUE(got({"gate 1", "gate 2", "gate 3"}));
  EXPECT_EQ(engine->letters().count(id), 0u);
  EXPECT_TRUE(engine->letters().reasons(id, 5).empty());
  EXPECT_EQ(counter("pipeline/p/in"), 4) << "one went through it again";
  EXPECT_EQ(engine->letters().check(id, 2), "") << "none is missing";
}

TEST_F(EngineTest, AResendGoesOnWhereItEndedAndTakesNoneThatCameLater) {
  Texts lines;
  for (int i = 0; i < 30; ++i) lines.push_back("gate " + std::to_string(100 + i));
  taker("d").refuses = {lines.begin(), lines.end()};
  start();
  ASSERT_TRUE(engine->submit(batch(lines)));
  const std::uint32_t id = engine->spool().destination("d");
  EXPECT_TRUE(until([&] { return engine->letters().count(id) == 30; }));
  const Letters::Extent extent = engine->letters().extent({});
  EXPECT_EQ(extent.letters, 30u);
  int asked = 0;
  std::uint64_t letters = 0;
  std::int64_t last = 0;
  const Engine::Resending guide{[&] { return ++asked > 10; },
                                [&](std::uint64_t n, std::int64_t id_) { letters = n, last = id_; }};
  // They are refused again, so they come back, with new ids.
  Engine::Resent first = engine->resend({}, false, guide);
  EXPECT_EQ(first.letters, 10u);
  EXPECT_EQ(letters, 10u);
  EXPECT_EQ(first.problem, "");
  EXPECT_FALSE(first.complete);
  EXPECT_TRUE(until([&] { return engine->letters().count(id) == 30; }));
  const Engine::Resent second =
      engine->resend({.after = last, .until = extent.last}, false, {nullptr, guide.reached});
  EXPECT_EQ(second.letters, 20u);
  EXPECT_EQ(last, extent.last);
  EXPECT_TRUE(second.complete);
  EXPECT_TRUE(until([&] { return engine->letters().count(id) == 30; }));
  EXPECT_EQ(engine->letters().extent({.until = extent.last}).letters, 0u) << "all have new ids";
  EXPECT_EQ(counter("pipeline/p/in"), 30);
}

TEST_F(EngineTest, AllLettersAreResentHoweverManyReasonsThereAre) {
  Texts lines;
  for (int i = 0; i < 1200; ++i)
    lines.push_back("gate " + std::to_string(i));  // each has a reason of its own
  taker("d").refuses = {lines.begin(), lines.end()};
  start();
  ASSERT_TRUE(engine->submit(batch(lines)));
  const std::uint32_t id = engine->spool().destination("d");
  EXPECT_TRUE(until([&] { return engine->letters().count(id) == 1200; }));
  {
    std::lock_guard lock(taker("d").mutex);
    taker("d").refuses.clear();
  }
  EXPECT_EQ(engine->resend({}, false).letters, 1200u);
  EXPECT_TRUE(until([&] { return bodies().size() == 1200; }));
  EXPECT_EQ(engine->letters().count(id), 0u);
}

TEST_F(EngineTest, AResendHoldsUpNoReloadAndEndsWithTheProgramThoughAQueueIsFull) {
  destinations =
      "{ d: { index: { name: 'n-{day}' }, queue: { limit: 1MiB }, retry: { first: 1ms, longest: 5ms } } }";
  const std::string line = "gate " + std::string(200'000, 'x');
  taker("d").refuses = {line};
  start();
  ASSERT_TRUE(engine->submit(batch({line})));
  EXPECT_TRUE(until([&] { return engine->letters().count(engine->spool().destination("d")) == 1; }));
  close(true);
  std::thread source([&] {
    for (int i = 0; i < 20 && engine->submit(batch({std::to_string(i) + std::string(100'000, 'y')})); ++i) {
    }
  });
  EXPECT_TRUE(until([&] { return engine->sources()[0].waits_for == "d" && waiting().bytes > 1'048'576; }));
  Engine::Resent resent;
  std::thread resending([&] { resent = engine->resend({}, true); });
  std::this_thread::sleep_for(50ms);
  const auto begin = std::chrono::steady_clock::now();
  EXPECT_EQ(engine->reload(configuration()), "");
  engine->stop(100ms);
  resending.join();
  EXPECT_LT(std::chrono::steady_clock::now() - begin, 15s);
  EXPECT_EQ(resent.letters, 0u);
  EXPECT_NE(resent.problem, "");
  source.join();
  EXPECT_EQ(engine->letters().count(engine->spool().destination("d")), 1u) << "it is still there";
}

TEST_F(EngineTest, ASpoolInMemoryBeginsWhereItWas) {
  server = ", spool: { on: memory }";
  start();
  SourceBatch b = batch({"one"});
  b.changes.state.push_back({"file/s/1:2", "place", false});
  ASSERT_TRUE(engine->submit(std::move(b)));
  EXPECT_TRUE(got({"one"}));
  EXPECT_TRUE(until([&] { return waiting().events == 0; }));
  EXPECT_TRUE(until([&] { return std::filesystem::exists(folder + "/data/memory-state"); }));
  for (const auto& p : engine->problems().all())
    EXPECT_EQ(p.about.find("memory"), std::string::npos) << p.text;
  engine->stop(5s);
  engine.reset();
  EXPECT_FALSE(std::filesystem::exists(folder + "/data/spool"));
  start();
  EXPECT_EQ(engine->spool().state("file/s/1:2").value_or("none"), "place");
  EXPECT_EQ(counter("source/s/events"), 1);
}

}  // namespace
}  // namespace dingle
