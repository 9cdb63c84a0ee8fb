// The balance fails at the stage where an event is lost or doubled, at once, and says which it is.
#include <nlohmann/json.hpp>

#include "server/api.h"
#include "tests/agent/append_bodies.h"
#include "tests/agent/engine_fixture.h"

namespace dingle {
namespace {

class BalanceTest : public EngineTest {
 protected:
  nlohmann::json status() { return nlohmann::json::parse(status_json(*engine)); }
  // The stages that do not add up, each with what went in and what is accounted for.
  std::string wrong() {
    const auto s = status();
    std::string all;
    for (const auto& b : s["balance"])
      if (b["in"] != b["accounted_for"])
        all += b["stage"].get<std::string>() + " " + b["in"].dump() + "/" + b["accounted_for"].dump() + " ";
    EXPECT_EQ(s["balanced"].get<bool>(), all.empty());
    return all;
  }
  bool tells(const std::string& what) {
    EXPECT_TRUE(until([&] { return wrong() == what; })) << wrong();
    return wrong() == what;
  }
  // Three lines, as a source counts them.
  SourceBatch three(std::int64_t lines = 3) {
    SourceBatch b = batch({"a", "b", "c"});
    b.changes.counters.push_back({engine->spool().counter_id("source/s/lines"), lines});
    return b;
  }
  void submit(std::int64_t lines = 3) { ASSERT_TRUE(engine->submit(three(lines))); }
  void tells_stored() {
    std::lock_guard lock(taker("d").mutex);
    taker("d").stored = 0;
  }
  void miscount_stored(std::int64_t by) {
    std::lock_guard lock(taker("d").mutex);
    taker("d").stored += by;
  }
};

TEST_F(BalanceTest, HoldsWhenNothingIsWrong) {
  tells_stored();
  start();
  submit();
  ASSERT_TRUE(got({"a", "b", "c"}));
  EXPECT_TRUE(until([&] { return status()["destinations"][0]["stored"] == 3; }));
  EXPECT_TRUE(tells(""));
  const auto s = status();
  EXPECT_GT(s["destinations"][0]["bytes_in"], 3);
  EXPECT_EQ(s["destinations"][0]["bytes_in"], s["destinations"][0]["bytes_out"]);
  EXPECT_EQ(s["pipelines"][0]["bytes_in"], 3);
  EXPECT_EQ(s["pipelines"][0]["bytes_out"], s["destinations"][0]["bytes_in"]);
}

TEST_F(BalanceTest, ALineThatMakesNoEvent) {
  start();
  submit(4);
  EXPECT_TRUE(tells("source s 4/3 "));
  submit(2);
  EXPECT_TRUE(tells("")) << "a sum; single batches cannot hide so";
}

TEST_F(BalanceTest, AnEventThatASourceCountedAndDidNotHandIn) {
  start();
  SourceBatch b = three(4);
  b.changes.counters.push_back({engine->spool().counter_id("source/s/events"), 1});
  ASSERT_TRUE(engine->submit(std::move(b)));
  EXPECT_TRUE(tells("batches of s 4/3 "));
}

// A step that loses an event, doubles one, or both at once, under counts that agree with each other.
struct Faulty final : Step {
  int more = 0;
  bool exchanges = false;
  void run(Batch& batch, StepTally& tally) const override {
    each(batch, tally, [&](Event&) { ++tally.out; });
    if (more < 0) batch.events.pop_back();
    if (more > 0) batch.events.push_back(batch.events.front());
    if (exchanges) batch.events.back() = batch.events.front();
  }
};

TEST_F(BalanceTest, AnEventThatAStepLosesOrDoubles) {
  for (const auto& [by, exchanges, told] :
       {std::tuple{-1, false, "batches of s 3/1 pipeline p 3/2 steps of p 3/1 "},
        {1, false, "batches of s 3/1 pipeline p 3/4 steps of p 3/1 "},
        {0, true, "batches of s 3/2 steps of p 3/2 "}}) {
    engine.reset();
    std::filesystem::remove_all(folder + "/data");
    auto c = std::make_shared<Configuration>(*configuration());
    auto pipeline = std::make_shared<Pipeline>();
    auto step = std::make_unique<Faulty>();
    step->more = by, step->exchanges = exchanges;
    pipeline->name = "p";
    pipeline->add(std::move(step));
    c->pipelines[0].pipeline = c->flow.nodes[0].pipeline = pipeline;
    start(c);
    submit();
    EXPECT_TRUE(tells(told)) << by << exchanges;
  }
}

TEST_F(BalanceTest, AnEventThatTheSpoolLosesOrDoubles) {
  for (const int by : {1, -1}) {
    start();
    Spool& spool = engine->spool();
    const std::uint32_t d = spool.destination("d");
    append_bodies(spool, d, {"x", "y"});
    Batch batch;
    batch.events.resize(2);
    Section section{1, "p", "c", {{d, {}, {}}}, &batch};
    Spool::Append a;
    a.destinations = {{d, static_cast<std::uint32_t>(2 + by)}};
    const Slice slice{1, "s", "UTC", {}};
    a.events = encode_events({&slice, 1}, {section}).bytes;
    ASSERT_EQ(spool.append(a), 0);
    EXPECT_TRUE(tells(by > 0 ? "destination d 5/4 " : "destination d 3/4 ")) << by;
    engine.reset();
    std::filesystem::remove_all(folder + "/data");
  }
}

TEST_F(BalanceTest, AnEventThatADestinationLosesOrDoubles) {
  tells_stored();
  start();
  submit();
  EXPECT_TRUE(until([&] { return status()["destinations"][0]["stored"] == 3; }));
  for (const auto& [by, told] : {std::pair{-1, "stored in d 6/5 "}, {2, "stored in d 9/10 "}, {-1, ""}}) {
    miscount_stored(by);
    submit();
    EXPECT_TRUE(tells(told)) << by;
  }
}

TEST_F(BalanceTest, AnEventThatAMemoryLosesOrDoubles) {
  steps = "[ fold: { window: 1h } ]";
  start();
  submit();
  EXPECT_TRUE(until([&] { return counter("pipeline/p/merged") == 3; }));
  EXPECT_TRUE(tells(""));
  const std::string held = engine->flowing().memories.at(0).held_counter;
  for (const auto& [by, told] : {std::pair{-1, "memory of p 3/2 "}, {2, "memory of p 3/4 "}, {-1, ""}}) {
    engine->spool().count({{engine->spool().counter_id(held), by}});
    EXPECT_TRUE(tells(told)) << by;
  }
}

}  // namespace
}  // namespace dingle
