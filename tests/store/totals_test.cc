// Whatever a pipeline made fewer events of: what is asked of them comes to what the events would have come to.
#include <cmath>
#include <numeric>

#include "core/flow/pipeline.h"
#include "core/steps/memory.h"
#include "tests/core/nodes.h"
#include "tests/store/store_fixture.h"

namespace dingle {
namespace {

struct Written {
  const char* kind;
  Node options;
};
const Written kHalf{"sample", map({{"share", scalar("50%")}})};
const Written kMinutes{"fold", map({{"by", list({"ship"})},
                                    {"window", scalar("60s", false)},
                                    {"values", map({{"tons", scalar("sum(tons)")},
                                                    {"most", scalar("max(tons)")},
                                                    {"lines", scalar("count(*)")}})}})};
const Written kAgain{"fold", map({{"by", list({"ship"})},
                                  {"window", scalar("3600s", false)},
                                  {"values", map({{"tons", scalar("sum(tons)")},
                                                  {"most", scalar("max(most)")},
                                                  {"lines", scalar("sum(lines)")}})}})};
const Written kKilos{"set", map({{"computed", map({{"kilos", scalar("tons * 1000")}})}})};
const Written kUnique{"unique", map({{"by", list({"number"})}, {"within", scalar("1s", false)}})};
const Written kTally{"tally", map({{"metric", scalar("tons")}, {"value", scalar("tons")}})};
const Written kByTons{"fold", map({{"by", list({"ship", "tons"})}, {"window", scalar("3600s", false)}})};

class Totals : public StoreTest {
 protected:
  static constexpr int kEvents = 20'000;
  std::deque<std::unique_ptr<Step>> steps;  // events have views into them
  Batch batch;
  std::map<std::string, double> tons, lines;
  std::vector<double> all;
  double tallied = 0;

  void SetUp() override {
    StoreTest::SetUp();
    fill();
  }
  void fill() {
    batch.events.clear();
    tons.clear(), lines.clear(), all.clear();
    for (int i = 0; i < kEvents; ++i) {
      Event e;
      e.timestamp = kMorning + i * kSecond / 20;
      e.position = static_cast<std::uint64_t>(i);
      e.body = batch.arena.copy("line " + std::to_string(i));
      const std::string ship = i % 7 == 0 ? "kestrel" : i % 2 == 0 ? "tern" : "gull";
      const std::int64_t n = i * 7919 % 97 + (i % 50 == 0 ? 400 : 0);
      e.set(batch.arena, field_id("ship"), Value::text(batch.arena.copy(ship)));
      e.set(batch.arena, field_id("tons"), Value::integer(n));
      e.set(batch.arena, field_id("number"), Value::integer(i));
      batch.events.push_back(e);
      tons[ship] += static_cast<double>(n), ++lines[ship];
      all.push_back(static_cast<double>(n));
    }
    std::sort(all.begin(), all.end());
  }
  void run(const Written& written) {
    static const PatternLibrary library;
    Findings findings("");
    const StepKind* kind = step_kind(written.kind);
    const Options o = Options::read(kind->spec.options, written.options, written.kind, findings);
    auto& step = steps.emplace_back(kind->make({o, library, findings}));
    ASSERT_TRUE(step) << (findings.all().empty() ? "" : findings.all()[0].message);
    StepTally tally;
    if (const MemoryStep* remembers = step->with_memory()) {
      auto memory = remembers->begin();
      const auto prepared = remembers->prepare(batch, tally);
      Turn turn;
      remembers->turn(batch, tally, prepared.get(), *memory, turn);
      for (const auto& change : turn.changes) {
        TallySeries series;
        if (written.kind == std::string("tally") && remembers->series_of(change.key, *change.value, series))
          tallied = series.value;
      }
      turn.why = Turn::Why::everything;
      remembers->turn(batch, tally, nullptr, *memory, turn);
    } else {
      step->run(batch, tally);
    }
    std::erase_if(batch.events, [](const Event& e) { return e.dropped_by != 0; });
  }
  void store_all() {
    std::uint64_t number = 0;
    for (const Event& e : batch.events)
      events.push_back(
          {e.timestamp, kMorning, {sender.spool, sender.epoch, ++number, 0}, 1, number, e.body, e.all(), {}});
    commit();
  }
  Grouped ask(Measure measure, const std::string& field, const std::vector<std::string>& by,
              double percentile = 50, std::int64_t bucket = 0) {
    Grouping g;
    g.measure = measure, g.field = field, g.fields = by, g.percentile = percentile, g.bucket = bucket;
    Scanned scanned;
    return group_events({store.get()}, {}, g, scanned);
  }
  static double by_ship(const Grouped& grouped, const std::string& ship) {
    for (const Group& g : grouped.groups)
      if (g.keys.at(0).to_string() == ship) return g.value;
    return -1;
  }
};

TEST_F(Totals, AreThoseOfTheEventsBehindAllPairsOfSteps) {
  struct Row {
    const char* name;
    std::vector<Written> steps;
    double within;  // of the truth: what is sampled is right on average
    bool folded;
  };
  const std::vector<Row> rows{
      {"nothing", {}, 0, false},
      {"sample", {kHalf}, 0.05, false},
      {"sample sample", {kHalf, kHalf}, 0.15, false},
      {"unique", {kUnique}, 0, false},
      {"unique sample", {kUnique, kHalf}, 0.05, false},
      {"sample unique", {kHalf, kUnique}, 0.05, false},
      {"fold", {kMinutes}, 0, true},
      {"fold fold", {kMinutes, kAgain}, 0, true},
      {"sample fold", {kHalf, kMinutes}, 0.05, true},
      {"sample fold fold", {kHalf, kMinutes, kAgain}, 0.05, true},
      {"fold sample", {kMinutes, kHalf}, 0.5, true},
      {"fold sample fold", {kMinutes, kHalf, kAgain}, 0.5, true},
      {"unique fold", {kUnique, kMinutes}, 0, true},
      {"fold unique", {kMinutes, kUnique}, 0, true},
  };
  for (const Row& row : rows) {
    SCOPED_TRACE(row.name);
    TearDown(), SetUp();
    for (const Written& step : row.steps) run(step);
    run(kTally);
    store_all();
    const auto near = [&](double is, double truth, const char* what) {
      EXPECT_NEAR(is, truth, truth * row.within + truth * 1e-9) << what;
    };
    for (const auto& [ship, truth] : tons) {
      near(by_ship(ask(Measure::count, "", {"ship"}), ship), lines[ship], "values");
      near(by_ship(ask(Measure::sum, "tons", {"ship"}), ship), truth, "sum");
      if (row.folded) near(by_ship(ask(Measure::sum, "lines", {"ship"}), ship), lines[ship], "sum of count");
      const double mean = truth / lines[ship];
      EXPECT_NEAR(by_ship(ask(Measure::average, "tons", {"ship"}), ship), mean,
                  mean * std::min(row.within, 0.1) + 1e-9);
    }
    near(tallied, std::accumulate(all.begin(), all.end(), 0.0), "tally");
    double sum = 0, count = 0;
    for (const Group& g : ask(Measure::sum, "tons", {}, 50, 60 * kSecond).groups)
      sum += g.value, count += static_cast<double>(g.count);
    near(sum, std::accumulate(all.begin(), all.end(), 0.0), "timeline of sums");
    near(count, kEvents, "events of the timeline");
    if (row.folded) continue;
    for (const double p : {10.0, 50.0, 90.0})
      EXPECT_NEAR(ask(Measure::percentile, "tons", {}, p).groups[0].value,
                  all[static_cast<std::size_t>(kEvents * p / 100) - 1], row.within == 0 ? 0 : 4);
  }
}

// What is of the window counts once for each; what stands in `by` is of each event.
TEST_F(Totals, WhatEachFieldOfAFoldedEventSays) {
  run(kMinutes);
  run(kKilos);
  store_all();
  const double total = std::accumulate(all.begin(), all.end(), 0.0);
  const double windows = static_cast<double>(batch.events.size());
  EXPECT_NEAR(ask(Measure::sum, "kilos", {}).groups[0].value, total * 1000, 1e-3)
      << "made of a total behind fold";
  const Grouped mean = ask(Measure::average, "most", {});
  EXPECT_NEAR(mean.groups[0].value * windows, ask(Measure::sum, "most", {}).groups[0].value, 1e-6);
  EXPECT_EQ(ask(Measure::count, "", {"most"}).events, batch.events.size()) << "of windows, there are so many";
  EXPECT_EQ(ask(Measure::count, "", {"ship"}).events, static_cast<std::uint64_t>(kEvents));
}

TEST_F(Totals, WhatTheEventsHadIsWeighed) {
  run(kByTons);
  store_all();
  EXPECT_NEAR(ask(Measure::sum, "tons", {}).groups[0].value, std::accumulate(all.begin(), all.end(), 0.0),
              1e-6);
  EXPECT_DOUBLE_EQ(ask(Measure::percentile, "tons", {}, 90).groups[0].value, all[kEvents * 9 / 10 - 1]);
}

}  // namespace
}  // namespace dingle
