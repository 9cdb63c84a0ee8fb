// Putting stored events through their pipelines again, with what happens to it in the middle of a page.
#include "agent/engine/rerun.h"

#include "tests/agent/engine_fixture.h"

namespace dingle {
namespace {

class RerunTest : public EngineTest {
 protected:
  const StoredChoice choice{.destination = "d", .to = std::numeric_limits<std::int64_t>::max()};

  // Thirty lines, stored before there was a step; now one in three is dropped.
  void store() {
    stores = true;
    start();
    Texts lines;
    for (int n = 0; n < 30; ++n) lines.push_back("gate " + std::to_string(n));
    ASSERT_TRUE(engine->submit(batch(lines)));
    ASSERT_TRUE(until([&] { return waiting().events == 0; }));
    steps = "[ parse: { templates: ['gate {n:int}'] }, drop: { where: 'mod(n, 3) = 0' } ]";
    ASSERT_EQ(engine->reload(configuration()), "");
  }
  std::vector<int> numbers(const std::string& where = "n is not null") {
    Query query;
    query.where = *Condition::parse(where);
    query.oldest = true;
    Scanned scanned;
    std::vector<int> all;
    std::vector<const Store*> in;
    const auto owners = engine->stores("d");
    for (const auto& s : owners) in.push_back(s.get());
    find_events(
        in, query, 100,
        [&](const StoredEvent& e, std::string&) { all.push_back(std::stoi(std::string(e.body.substr(5)))); },
        scanned);
    std::sort(all.begin(), all.end());
    return all;
  }
  std::unique_ptr<Rerun> begin(std::optional<Rerun::Place> place,
                               std::function<void(const Rerun&, const Rerun::Place&)> planned) {
    auto rerun = std::make_unique<Rerun>(
        *engine, choice, std::move(place), [] { return false; }, std::move(planned));
    EXPECT_EQ(rerun->begin(), "");
    return rerun;
  }
  void expect_done() {
    std::vector<int> expected;
    for (int n = 0; n < 30; ++n)
      if (n % 3 != 0) expected.push_back(n);
    EXPECT_EQ(numbers(), expected);
    EXPECT_EQ(numbers("body is not null"), expected) << "each once";
  }
};

TEST_F(RerunTest, CountsWhatItDoes) {
  store();
  int told = 0;
  const auto rerun = begin({}, [&](const Rerun& r, const Rerun::Place& place) {
    ++told;
    EXPECT_TRUE(place.until);
    EXPECT_EQ(r.counts.dropped, 10u);
    EXPECT_TRUE(numbers().empty()) << "nothing is done yet";
  });
  std::string problem;
  EXPECT_EQ(rerun->page(problem), Rerun::Went::to_end) << problem;
  EXPECT_TRUE(rerun->finish());
  EXPECT_EQ(told, 1);
  EXPECT_EQ(rerun->counts.read, 30u);
  EXPECT_EQ(rerun->counts.replaced, 20u);
  EXPECT_FALSE(rerun->place().until);
  expect_done();
}

// Killed before the first event was replaced, and after the last one was: the page is done once, and counted by what was planned.
TEST_F(RerunTest, APageThatWasBegunIsEndedAndNotCountedAgain) {
  for (const bool after : {false, true}) {
    engine.reset();
    std::filesystem::remove_all(folder + "/data");
    position = 0;
    steps = "[]";
    store();
    std::optional<Rerun::Place> place;
    Rerun::Counts then;
    struct Killed {};
    const auto planned = [&](const Rerun& r, const Rerun::Place& p) {
      place = p, then = r.counts;
      if (!after) throw Killed();
    };
    std::string problem;
    try {
      EXPECT_EQ(begin({}, planned)->page(problem), Rerun::Went::to_end);
    } catch (const Killed&) {
      EXPECT_TRUE(numbers().empty());
    }
    ASSERT_TRUE(place && place->until && !place->after);
    EXPECT_EQ(then.read, 30u);
    EXPECT_EQ(then.replaced, 20u);
    EXPECT_EQ(then.dropped, 10u);
    const auto again =
        begin(place, [](const Rerun&, const Rerun::Place&) { ADD_FAILURE() << "it was planned before"; });
    for (int pages = 0; pages < 3; ++pages)  // what was replaced is there behind it, newer
      if (again->page(problem) != Rerun::Went::on) break;
    EXPECT_EQ(problem, "");
    EXPECT_TRUE(again->finish());
    EXPECT_EQ(again->counts.read, 0u) << "those of before it, until those that were planned are taken over";
    EXPECT_FALSE(again->place().until);
    expect_done();
  }
}

// Only as far as it was planned; what stands behind that is a page of its own, and counted.
TEST_F(RerunTest, WhatStandsBehindABegunPageIsCounted) {
  store();
  std::optional<Rerun::Place> place;
  std::string problem;
  struct Killed {};
  try {
    begin({}, [&](const Rerun&, const Rerun::Place& p) {
      place = p;
      throw Killed();
    })->page(problem);
  } catch (const Killed&) {
  }
  // As if the page had ended with the eleventh event.
  Query query;
  query.oldest = true;
  Scanned scanned;
  const auto owner = engine->stores("d").at(0);
  const auto first = find_events({owner.get()}, query, 11, false, scanned);
  ASSERT_TRUE(place);
  place->until = first.back().place();
  int told = 0;
  const auto again = begin(place, [&](const Rerun&, const Rerun::Place&) { ++told; });
  EXPECT_EQ(again->page(problem), Rerun::Went::on) << problem;
  EXPECT_EQ(again->counts.read, 0u);
  EXPECT_FALSE(again->place().until);
  EXPECT_EQ(again->page(problem), Rerun::Went::to_end) << problem;
  EXPECT_EQ(again->counts.read, 19u);
  EXPECT_EQ(told, 1);
  EXPECT_TRUE(again->finish());
  expect_done();
}

}  // namespace
}  // namespace dingle
