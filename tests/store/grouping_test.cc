// Counting and measuring events by groups.
#include <algorithm>
#include <random>

#include "core/condition/condition.h"
#include "store/sqlite.h"
#include "tests/store/store_fixture.h"

namespace dingle {
namespace {

TEST_F(StoreTest, GroupsByTimeAndField) {
  for (std::uint64_t n = 1; n <= 100; ++n) add(n, static_cast<std::int64_t>(n / 50), n % 10 ? 200 : 500, "x");
  commit();
  Scanned scanned;
  Grouping g;
  g.bucket = 60 * kSecond;
  g.fields = {"status"};
  auto grouped = group_events({store.get()}, {}, g, scanned);
  ASSERT_EQ(grouped.groups.size(), 5u);
  EXPECT_EQ(grouped.groups[0].count, 45u);
  EXPECT_EQ(grouped.groups[0].keys[0], Value::integer(200));
  EXPECT_EQ(grouped.groups[0].bucket, kMorning);
  g = {};
  g.fields = {"status"};
  g.most = 1;
  grouped = group_events({store.get()}, {}, g, scanned);
  ASSERT_EQ(grouped.groups.size(), 1u) << "the greatest";
  EXPECT_EQ(grouped.groups[0].keys[0], Value::integer(200));
  EXPECT_EQ(grouped.found, 2u);
  EXPECT_EQ(grouped.events, 100u);
  EXPECT_EQ(grouped.without, 0u);
  g.fields = {"not.there"};
  EXPECT_EQ(group_events({store.get()}, {}, g, scanned).without, 100u);
  g = {};
  g.field = "status";
  for (auto [measure, expected] : {std::pair{Measure::sum, 23000.0},
                                   {Measure::average, 230.0},
                                   {Measure::minimum, 200.0},
                                   {Measure::maximum, 500.0},
                                   {Measure::percentile, 200.0}}) {
    g.measure = measure;
    EXPECT_DOUBLE_EQ(group_events({store.get()}, {}, g, scanned).groups.at(0).value, expected);
  }
}

// Counting whole blocks, and asking each event by a condition that holds for all, come to the same.
TEST_F(StoreTest, BlocksCountAsTheirEventsDo) {
  std::mt19937 random(5);
  const auto below = [&](unsigned n) { return random() % n; };
  std::uint64_t number = 0;
  for (int index = 0; index < 12; ++index) {
    const bool weighted = index == 11, mixed = index % 4 == 3;
    for (int i = 0; i < 700; ++i) {
      add(++number, static_cast<std::int64_t>(below(1 + static_cast<unsigned>(index) * 3)), 200, "x");
      auto& own = fields.emplace_back();
      if (below(3) != 0)
        own.push_back({field_id("few"), Value::text(texts.emplace_back("f" + std::to_string(below(4))))});
      if (below(9) != 0)
        own.push_back(
            {field_id("many"), Value::text(texts.emplace_back("m" + std::to_string(below(100'000))))});
      if (mixed && below(2) == 0) own.push_back({field_id("few"), Value::integer(below(3))});
      own.push_back({field_id("flag"), Value::boolean(below(2) == 0)});
      own.push_back({field_id("ratio"), Value::decimal(below(4) / 2.0)});
      if (weighted && below(2) == 0) own.push_back({names::stands_for, Value::integer(1 + below(5))});
      events.back().fields = own;
      if (mixed)
        events.back().more =
            fields.emplace_back(std::vector<Field>{{field_id("few"), Value::text("of the source")}});
    }
    commit("gate-" + std::to_string(index));
  }
  Query each;
  each.where = *Condition::parse("few is null or few is not null");
  for (const char* field : {"", "few", "many", "flag", "ratio", "status", "absent", "body"})
    for (const std::int64_t bucket : {0, 30, 300, 86'400})
      for (const bool as_stored : {false, true}) {
        Grouping g;
        g.bucket = bucket * kSecond;
        if (*field) g.fields = {field};
        g.as_stored = as_stored;
        Scanned scanned, of_each;
        const Grouped whole = group_events({store.get()}, {}, g, scanned);
        const Grouped single = group_events({store.get()}, each, g, of_each);
        ASSERT_EQ(whole.groups.size(), single.groups.size()) << field << bucket;
        for (std::size_t i = 0; i < whole.groups.size(); ++i) {
          ASSERT_EQ(whole.groups[i].bucket, single.groups[i].bucket) << field << bucket;
          ASSERT_EQ(whole.groups[i].count, single.groups[i].count) << field << bucket;
          ASSERT_EQ(whole.groups[i].keys, single.groups[i].keys) << field << bucket;
        }
        EXPECT_EQ(whole.events, single.events);
        EXPECT_EQ(whole.without, single.without);
        EXPECT_EQ(whole.weighted, single.weighted);
        EXPECT_EQ(scanned.matched, of_each.matched);
        EXPECT_EQ(scanned.events, of_each.events);
      }
}

// Whatever finds no group of its own is with the others, and what comes often is found all the same.
TEST_F(StoreTest, OfTooManyGroupsTheSumsAreRightAndFrequentOnesStay) {
  std::uint64_t number = 0;
  for (std::int64_t n = 1; n <= 4000; ++n) add(++number, -3, 7, "often, and looked at last");
  for (std::int64_t n = 1; n <= 500; ++n) add(++number, -2, 8, "x"), events.back().fields = {};
  for (std::int64_t n = 1; n <= static_cast<std::int64_t>(kMostGroups) * 3; ++n)
    add(++number, 0, 1000 + n, "x");
  commit();
  Scanned scanned;
  Grouping g;
  g.fields = {"status"};
  g.most = 5;
  const Grouped grouped = group_events({store.get()}, {}, g, scanned);
  EXPECT_TRUE(grouped.approximate);
  g.most = 0;
  EXPECT_GE(group_events({store.get()}, {}, g, scanned).groups.size(), kMostGroups);
  EXPECT_NEAR(static_cast<double>(grouped.found), kMostGroups * 3, kMostGroups * 0.3);
  EXPECT_EQ(grouped.events, number);
  EXPECT_EQ(grouped.without, 500u);
  EXPECT_EQ(grouped.groups.at(0).keys[0], Value::integer(7));
  EXPECT_GE(grouped.groups.at(0).count, 3900u);
  g.measure = Measure::sum, g.field = "status", g.most = 0;
  double sum = 0, truth = 4000 * 7;
  const Grouped sums = group_events({store.get()}, {}, g, scanned);
  for (const Group& group : sums.groups) sum += group.value;
  for (const Group& group : sums.others) sum += group.value;
  for (std::int64_t n = 1; n <= static_cast<std::int64_t>(kMostGroups) * 3; ++n)
    truth += static_cast<double>(1000 + n);
  EXPECT_DOUBLE_EQ(sum, truth);
}

// Also where only the second field has very many values.
TEST_F(StoreTest, GroupsByTwoFieldsAreBounded) {
  const auto many = static_cast<std::int64_t>(kMostGroups) * 5;
  for (std::int64_t n = 1; n <= many; ++n) add(static_cast<std::uint64_t>(n), 0, n, "x");
  commit();
  Scanned scanned;
  Grouping g;
  g.fields = {"not.there", "status"};
  const Grouped grouped = group_events({store.get()}, {}, g, scanned);
  EXPECT_LE(grouped.groups.size(), 4 * kMostGroups) << "those of two threads";
  EXPECT_TRUE(grouped.approximate);
  EXPECT_EQ(grouped.events, static_cast<std::uint64_t>(many));
}

// Silence does not take the room of groups.
TEST_F(StoreTest, AFewEventsInALongTimeHaveTheirGroups) {
  for (std::int64_t n = 0; n < 500; ++n) add(static_cast<std::uint64_t>(n + 1), 0, n, "x");
  commit();
  Grouping g;
  g.fields = {"status"};
  g.bucket = kSecond;
  Query query;
  query.from = kMorning, query.to = kMorning + 365 * kDay;
  Scanned scanned;
  const Grouped grouped = group_events({store.get()}, query, g, scanned);
  EXPECT_EQ(grouped.groups.size(), 500u);
  EXPECT_FALSE(grouped.approximate);
}

TEST_F(StoreTest, NoBucketIsWithoutItsEventsHoweverManyGroupsThereAre) {
  constexpr std::int64_t kBuckets = 4000, kShips = 60;
  std::uint64_t number = 0;
  for (std::int64_t minute = 0; minute < kBuckets; ++minute)
    for (std::int64_t ship = 0; ship < kShips; ++ship) add(++number, minute, ship, "x");
  commit();
  Grouping g;
  g.fields = {"status"};
  g.bucket = 60 * kSecond;
  Query query;
  query.from = kMorning, query.to = kMorning + kBuckets * 60 * kSecond;
  Scanned scanned;
  const Grouped grouped = group_events({store.get()}, query, g, scanned);
  std::map<std::int64_t, std::uint64_t> counts, groups;
  for (const Group& group : grouped.groups) counts[group.bucket] += group.count, ++groups[group.bucket];
  for (const Group& group : grouped.others) counts[group.bucket] += group.count;
  ASSERT_EQ(counts.size(), static_cast<std::size_t>(kBuckets));
  for (const auto& [bucket, count] : counts) ASSERT_EQ(count, static_cast<std::uint64_t>(kShips));
  for (const auto& [bucket, own] : groups) ASSERT_GE(own, 8u);
  EXPECT_EQ(groups.size(), counts.size());
  EXPECT_EQ(grouped.events, number);
}

TEST_F(StoreTest, TheGreatestAndTheLeastInstantHaveBuckets) {
  add(1, 0, 200, "now");
  events[0].timestamp = std::numeric_limits<std::int64_t>::max();
  add(2, 0, 200, "now");
  events[1].timestamp = std::numeric_limits<std::int64_t>::min();
  commit();
  Grouping g;
  g.bucket = 30 * 24 * 3600 * kSecond;
  Scanned scanned;
  Query query;
  query.to = std::numeric_limits<std::int64_t>::max();
  EXPECT_EQ(group_events({store.get()}, query, g, scanned).groups.size(), 2u);
}

TEST_F(StoreTest, GroupsOfOneSizeComeInTheOrderOfTheirTexts) {
  const std::vector<Value> values{Value::text("tern"),   Value::text("auk"),     Value::integer(10),
                                  Value::integer(9),     Value::decimal(0.5),    Value::boolean(true),
                                  Value::boolean(false), Value::timestamp(kDay), Value::ip("192.0.2.7")};
  for (std::size_t i = 0; i < values.size(); ++i) {
    add(i + 1, 0, 200, "x");
    fields.back() = {{field_id("mixed"), values[i]}};
    events.back().fields = fields.back();
  }
  add(values.size() + 1, 0, 200, "x");
  fields.back() = {{field_id("mixed"), Value::text("often")}};
  events.back().fields = fields.back();
  add(values.size() + 2, 0, 200, "x");
  fields.back() = {{field_id("mixed"), Value::text("often")}};
  events.back().fields = fields.back();
  commit();
  Grouping g;
  g.fields = {"mixed"};
  Scanned scanned;
  const Grouped grouped = group_events({store.get()}, {}, g, scanned);
  std::vector<std::string> keys;
  for (const Group& group : grouped.groups) keys.push_back(group.keys[0].to_string());
  EXPECT_EQ(keys, (Bodies{"often", "0.5", "10", "192.0.2.7", "1970-01-02T00:00:00Z", "9", "auk", "false",
                          "tern", "true"}));
  EXPECT_EQ(grouped.groups[5].keys[0], Value::integer(9));
}

TEST_F(StoreTest, BucketsBeginByTheZonesClock) {
  for (const std::int64_t minute : {-3, -1, 0, 1, 2, 5}) add(fields.size() + 1, minute, 200, "x");
  commit();
  Grouping g;
  g.bucket = 120 * kSecond;
  Scanned scanned;
  std::vector<std::pair<std::int64_t, std::uint64_t>> found;
  for (const Group& group : group_events({store.get()}, {}, g, scanned).groups)
    found.emplace_back((group.bucket - kMorning) / kSecond, group.count);
  EXPECT_EQ(found, (std::vector<std::pair<std::int64_t, std::uint64_t>>{
                       {-240, 1}, {-120, 1}, {0, 2}, {120, 1}, {240, 1}}));
  g.bucket = kDay;
  g.zone = *Zone::named("-08:00");  // where it is midnight just now
  found.clear();
  for (const Group& group : group_events({store.get()}, {}, g, scanned).groups)
    found.emplace_back((group.bucket - kMorning) / kSecond, group.count);
  EXPECT_EQ(found, (std::vector<std::pair<std::int64_t, std::uint64_t>>{{-86'400, 2}, {0, 4}}));
}

TEST_F(StoreTest, PercentilesAreOfTheNearestRank) {
  for (std::uint64_t n = 1; n <= 10; ++n) add(n, 0, static_cast<std::int64_t>(n * n % 11 * 10), "x");
  add(11, 0, 0, "has no status");
  fields.back().clear();
  events.back().fields = {};
  commit();
  std::vector<double> sorted;
  for (int n = 1; n <= 10; ++n) sorted.push_back(n * n % 11 * 10);
  std::sort(sorted.begin(), sorted.end());
  Grouping g;
  g.field = "status";
  g.measure = Measure::percentile;
  Scanned scanned;
  for (auto [percentile, rank] :
       {std::pair{0.0, 1}, {10.0, 1}, {11.0, 2}, {50.0, 5}, {90.0, 9}, {99.0, 10}, {100.0, 10}}) {
    g.percentile = percentile;
    const Grouped grouped = group_events({store.get()}, {}, g, scanned);
    EXPECT_DOUBLE_EQ(grouped.groups.at(0).value, sorted[static_cast<std::size_t>(rank - 1)]) << percentile;
    EXPECT_EQ(grouped.events, 10u) << "one has no number";
  }
}

TEST_F(StoreTest, PercentilesCountWhatEventsStandFor) {
  add(1, 0, 10, "eight of them");
  fields.back().push_back({names::stands_for, Value::integer(8)});
  events.back().fields = fields.back();
  add(2, 0, 20, "x"), add(3, 0, 30, "x");
  commit();
  Grouping g;
  g.field = "status";
  g.measure = Measure::percentile;
  Scanned scanned;
  for (auto [percentile, value] : {std::pair{0.0, 10.0},
                                   {50.0, 10.0},
                                   {80.0, 10.0},
                                   {81.0, 20.0},
                                   {90.0, 20.0},
                                   {91.0, 30.0},
                                   {100.0, 30.0}}) {
    g.percentile = percentile;
    EXPECT_DOUBLE_EQ(group_events({store.get()}, {}, g, scanned).groups.at(0).value, value) << percentile;
  }
}

TEST_F(StoreTest, ThreadsCountTogether) {
  std::map<std::int64_t, std::uint64_t> of_status;
  for (std::uint64_t n = 1; n <= 600; ++n) {
    add(n, static_cast<std::int64_t>(n), 200 + static_cast<std::int64_t>(n % 7), "line " + std::to_string(n));
    ++of_status[200 + static_cast<std::int64_t>(n % 7)];
    if (n % 20 == 0) commit();
  }
  Grouping by_status;
  by_status.fields = {"status"};
  Scanned scanned;
  const Grouped grouped = group_events({store.get()}, {}, by_status, scanned);
  EXPECT_EQ(scanned.events, 600u);
  EXPECT_EQ(scanned.matched, 600u);
  EXPECT_GT(scanned.blocks, 8u);
  std::map<std::int64_t, std::uint64_t> found;
  for (const Group& g : grouped.groups) found[g.keys[0].as_integer()] = g.count;
  EXPECT_EQ(found, of_status);
  Grouping measured;
  measured.field = "status";
  for (const auto& [measure, value] :
       std::initializer_list<std::pair<Measure, double>>{{Measure::maximum, 206},
                                                         {Measure::minimum, 200},
                                                         {Measure::average, 203.0},
                                                         {Measure::percentile, 203}}) {
    measured.measure = measure;
    const Grouped one = group_events({store.get()}, {}, measured, scanned);
    ASSERT_EQ(one.groups.size(), 1u);
    EXPECT_NEAR(one.groups[0].value, value, 0.1);
  }
  Query some;
  some.where = *Condition::parse("mentions '77' or status = 203");
  scanned = {};
  EXPECT_EQ(group_events({store.get()}, some, by_status, scanned).events, of_status[203] + 1);
  some.until = std::chrono::steady_clock::now();
  EXPECT_EQ(group_events({store.get()}, some, by_status, scanned).events, 0u);
  EXPECT_TRUE(scanned.stopped);
}

}  // namespace
}  // namespace dingle
