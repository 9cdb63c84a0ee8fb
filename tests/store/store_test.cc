#include "store/store.h"

#include <gtest/gtest.h>
#include <unistd.h>

#include <atomic>
#include <filesystem>
#include <fstream>
#include <random>
#include <thread>

#include "core/time/instant.h"
#include "store/search.h"
#include "store/sqlite.h"

namespace dingle {
namespace {

const std::int64_t kMorning = *parse_moment("2026-11-23T08:00:00Z", 0);

class StoreTest : public testing::Test {
 protected:
  std::string folder = testing::TempDir() + "/store-" + std::to_string(::getpid()) + "-" +
                       testing::UnitTest::GetInstance()->current_test_info()->name();
  std::shared_ptr<Store> store;
  Sender sender{11, 1, 5, 1};
  std::deque<std::string> texts;
  std::deque<std::vector<Field>> fields;
  std::vector<StoredEvent> events;

  void SetUp() override {
    std::filesystem::remove_all(folder);
    store = Store::at(folder);
  }
  void TearDown() override {
    store.reset();
    std::filesystem::remove_all(folder);
  }
  // Adds an event: minute after eight, status, body.
  void add(std::uint64_t number, std::int64_t minute, std::int64_t status, const std::string& body,
           std::uint64_t stream = 1) {
    auto& f = fields.emplace_back();
    f.push_back({field_id("status"), Value::integer(status)});
    if (status >= 500)
      f.push_back({field_id("reason"), Value::text(texts.emplace_back("server " + std::to_string(status)))});
    events.push_back({kMorning + minute * 60 * kSecond,
                      kMorning,
                      {sender.spool, sender.epoch, number, 0},
                      stream,
                      number * 10,
                      texts.emplace_back(body),
                      f,
                      {}});
  }
  Store::Outcome commit(const std::string& index = "gate-2026-11-23") {
    auto outcome = store->commit(index, sender, events);
    events.clear();
    return outcome;
  }
  std::vector<std::string> find(const std::string& where, std::size_t limit = 100) {
    Query q;
    if (!where.empty()) q.where = *Condition::parse(where);
    Scanned scanned;
    std::vector<std::string> bodies;
    for (const FoundEvent& e : find_events({store.get()}, q, limit, false, scanned)) {
      const std::size_t from = e.json.find("\"body\":\"") + 8;
      bodies.push_back(e.json.substr(from, e.json.find('"', from) - from));
    }
    EXPECT_TRUE(scanned.problems.empty());
    return bodies;
  }
};

using Bodies = std::vector<std::string>;

TEST_F(StoreTest, AnEventsOwnFieldHidesItsResourcesOfAnotherKind) {
  add(1, 0, 200, "one");
  const Field resource{field_id("status"), Value::text("of the resource")};
  events[0].more = {&resource, 1};
  commit();
  Scanned scanned;
  const auto found = find_events({store.get()}, Query{}, 10, false, scanned);
  ASSERT_EQ(found.size(), 1u);
  EXPECT_NE(found[0].json.find("\"status\":200"), std::string::npos) << found[0].json;
  EXPECT_EQ(found[0].json.find("of the resource"), std::string::npos) << found[0].json;
}
TEST_F(StoreTest, FindsByConditionWordsAndTimeNewestFirst) {
  add(1, 0, 200, "gate 7 opened");
  add(2, 1, 503, "gate 8 refused");
  add(3, 200, 200, "gate 7 closed");
  ASSERT_EQ(commit().stored, 3u);
  EXPECT_EQ(find(""), (Bodies{"gate 7 closed", "gate 8 refused", "gate 7 opened"}));
  EXPECT_EQ(find("status >= 500"), (Bodies{"gate 8 refused"}));
  EXPECT_EQ(find("has 'GATE 7'"), (Bodies{"gate 7 closed", "gate 7 opened"}));
  EXPECT_EQ(find("has 'server'"), (Bodies{"gate 8 refused"}));
  EXPECT_EQ(find("has 'serve'"), Bodies{});
  EXPECT_EQ(find("timestamp < '2026-11-23T08:01:30Z'", 1), (Bodies{"gate 8 refused"}));
  EXPECT_EQ(find("reason is null and status = 200", 1), (Bodies{"gate 7 closed"}));
}

TEST_F(StoreTest, WhatComesAgainIsKnownAndLeftOut) {
  for (std::uint64_t n = 1; n <= 5; ++n) add(n, 0, 200, "e" + std::to_string(n));
  commit();
  for (std::uint64_t n = 3; n <= 7; ++n) add(n, 0, 200, "e" + std::to_string(n));
  auto outcome = commit();
  EXPECT_EQ(outcome.known, 3u);
  EXPECT_EQ(outcome.stored, 2u);
  EXPECT_EQ(find("").size(), 7u);
}

TEST_F(StoreTest, ProgressSurvivesReopeningAndIsByLane) {
  add(5, 0, 200, "a", 1);
  commit();
  store.reset();
  store = Store::at(folder);
  std::uint64_t other = 2;
  while (lane_of(other) == lane_of(1)) ++other;
  add(5, 0, 200, "a", 1);
  add(4, 0, 200, "b", other);
  EXPECT_EQ(commit().stored, 1u);
}

// Agents that send at the same time share transactions; each keeps its own progress, and a copied spool is
// refused alone.
TEST_F(StoreTest, ManySendersShareTransactions) {
  constexpr int kSenders = 8, kBatches = 40;
  std::atomic<int> refused{0};
  std::vector<std::thread> senders;
  for (std::uint64_t spool = 1; spool <= kSenders; ++spool)
    senders.emplace_back([&, spool] {
      const std::string body = "from " + std::to_string(spool);
      for (std::uint64_t n = 1; n <= kBatches; ++n) {
        // The last sender is a copy of the first; every batch is sent twice.
        const Sender from{spool == kSenders ? 1 : spool, 1, spool, 1};
        const StoredEvent event{kMorning, kMorning, {from.spool, 1, n, 0}, 1, n, body, {}, {}};
        for (int twice = 0; twice < 2; ++twice) {
          const auto outcome = store->commit("shared", from, {&event, 1});
          if (outcome.form == Store::Outcome::Form::retry) {
            ++refused;
          } else {
            EXPECT_EQ(outcome.stored, twice ? 0u : 1u);
          }
        }
      }
    });
  for (std::thread& t : senders) t.join();
  EXPECT_EQ(refused, 2 * kBatches) << "one of the two with one spool";
  EXPECT_EQ(store->indexes().at(0).events, (kSenders - 1) * kBatches);
  EXPECT_LT(store->transactions(), 2u * kSenders * kBatches);
  EXPECT_EQ(store->held({2, 1, 2, 1}), (RecordNumber{1, kBatches}));
}

TEST_F(StoreTest, WhatASenderHasThereOutlivesItsIndex) {
  EXPECT_EQ(store->held(sender), RecordNumber());
  add(7, 0, 200, "a");
  commit("one");
  add(9, 0, 200, "a");
  commit("two");
  EXPECT_EQ(store->held(sender), (RecordNumber{sender.epoch, 9}));
  store->remove("two");
  store.reset();
  store = Store::at(folder);
  EXPECT_EQ(store->held(sender), (RecordNumber{sender.epoch, 9}));
  EXPECT_EQ(store->held({sender.spool + 1, 1, 1, 1}), RecordNumber());
}

TEST_F(StoreTest, CopiedSpoolIsRefused) {
  sender.epoch = 3;
  add(1, 0, 200, "a");
  commit();
  sender.epoch = 2;
  add(2, 0, 200, "b");
  EXPECT_EQ(commit().form, Store::Outcome::Form::retry);
  sender.epoch = 3;
  sender.nonce = 6;
  add(2, 0, 200, "b");
  EXPECT_NE(commit().reason.find("a copy of this spool"), std::string::npos);
  sender.epoch = 4;
  add(2, 0, 200, "b");
  EXPECT_EQ(commit().form, Store::Outcome::Form::committed);
}

TEST_F(StoreTest, MergingKeepsEveryEvent) {
  for (std::uint64_t n = 1; n <= 40; ++n) {
    add(n, static_cast<std::int64_t>(n % 3) * 60, n % 7 ? 200 : 500, "event " + std::to_string(n));
    commit();
  }
  const auto before = find("");
  ASSERT_EQ(store->indexes()[0].blocks, 40u);
  store->merge();
  EXPECT_LT(store->indexes()[0].blocks, 12u);
  EXPECT_EQ(find(""), before);
  EXPECT_EQ(find("status = 500").size(), 5u);
}

TEST_F(StoreTest, FieldsOfAnyTypeComeBack) {
  std::mt19937_64 random(9);
  std::vector<std::string> expected;
  for (std::uint64_t n = 1; n <= 6000; ++n) {
    auto& f = fields.emplace_back();
    if (random() % 2)
      f.push_back({field_id("mixed"),
                   random() % 2 ? Value::integer(static_cast<std::int64_t>(random()))
                                : Value::text(texts.emplace_back("t" + std::to_string(random() % 9)))});
    if (random() % 3)
      f.push_back({field_id("unique"), Value::text(texts.emplace_back(std::to_string(random())))});
    f.push_back({field_id("real"), Value::decimal(static_cast<double>(random() % 1000) / 8)});
    f.push_back({field_id("flag"), Value::boolean(random() % 2)});
    f.push_back({field_id("when"), Value::timestamp(static_cast<std::int64_t>(random() % kDay))});
    StoredEvent e{kMorning + static_cast<std::int64_t>(n),
                  kMorning,
                  {sender.spool, 1, n, 0},
                  1,
                  n,
                  texts.emplace_back("b\xff" + std::to_string(n)),
                  f,
                  {}};
    std::string json;
    append_event_json(e, true, json);
    expected.push_back(json);
    events.push_back(e);
  }
  commit();
  Scanned scanned;
  auto found = find_events({store.get()}, {}, 10'000, true, scanned);
  ASSERT_EQ(found.size(), expected.size());
  auto sorted = [](std::string json) {  // columns come in their own order
    std::sort(json.begin(), json.end());
    return json;
  };
  for (std::size_t i = 0; i < found.size(); ++i)
    ASSERT_EQ(sorted(found[found.size() - 1 - i].json), sorted(expected[i]));
}

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

TEST_F(StoreTest, TooManyGroupsAreSaidToBeTooMany) {
  for (std::uint64_t n = 1; n <= kMostGroups + 100; ++n) add(n, 0, static_cast<std::int64_t>(n), "x");
  for (std::uint64_t n = 1; n <= kMostGroups + 100; ++n)
    add(kMostGroups + 100 + n, 1, static_cast<std::int64_t>(n), "x");
  commit();
  Scanned scanned;
  Grouping g;
  g.fields = {"status"};
  g.most = 5;
  const Grouped grouped = group_events({store.get()}, {}, g, scanned);
  EXPECT_TRUE(grouped.approximate);
  EXPECT_EQ(grouped.found, kMostGroups);
  EXPECT_GE(grouped.events, 2 * (kMostGroups - 100)) << "those that are kept are counted to the end";
  EXPECT_EQ(grouped.groups.at(4).count, 2u);
}

TEST_F(StoreTest, BlocksAreLeftOutByFilterAndBounds) {
  for (std::uint64_t n = 1; n <= 3; ++n) {
    add(n, static_cast<std::int64_t>(n) * 60, static_cast<std::int64_t>(n) * 100, "word" + std::to_string(n));
    commit();
  }
  auto left_out = [&](const char* where) {
    Query q;
    q.where = *Condition::parse(where);
    Scanned scanned;
    find_events({store.get()}, q, 10, false, scanned);
    return scanned.blocks_left_out;
  };
  EXPECT_EQ(left_out("has 'word2'"), 2u);
  EXPECT_EQ(left_out("status > 250"), 2u);
  EXPECT_EQ(left_out("nothing = 1"), 3u);
  EXPECT_EQ(left_out("status <> 100"), 0u);
}

TEST_F(StoreTest, FewerEventsIfTheyWouldHaveTooManyBytes) {
  for (std::uint64_t n = 1; n <= 20; ++n)
    add(n, static_cast<std::int64_t>(n * 37 % 20), 200, std::string(1000, 'x'));
  commit();
  for (const auto& [most, cut] : {std::pair<std::size_t, bool>{100'000, false}, {5'000, true}, {10, true}}) {
    Scanned scanned;
    const auto found = find_events({store.get()}, Query{}, 20, false, scanned, most);
    EXPECT_EQ(scanned.cut, cut);
    std::size_t bytes = 0;
    for (std::size_t i = 0; i < found.size(); ++i) {
      bytes += found[i].json.size();
      EXPECT_EQ(found[i].timestamp, kMorning + static_cast<std::int64_t>(19 - i) * 60 * kSecond)
          << "the newest";
    }
    EXPECT_TRUE(bytes <= most || found.size() == 1) << most << ' ' << found.size();
    EXPECT_EQ(found.size() == 20, !cut);
  }
}
TEST(IndexNames, LongOnesKeepTheirDay) {
  const std::string a = std::string(160, 'a') + "-2026-11-23", b = std::string(161, 'a') + "-2026-11-23";
  EXPECT_TRUE(is_index_name(index_name(a)));
  EXPECT_TRUE(index_name(a).ends_with("-2026-11-23"));
  EXPECT_NE(index_name(a), index_name(b));
  EXPECT_EQ(index_name("gate-2026-11-23"), "gate-2026-11-23");
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

class Retention : public StoreTest {
 protected:
  void arrived(const std::string& index, std::int64_t at) {
    Connection file(store->path_of(index), SQLITE_OPEN_READWRITE);
    file.run(("UPDATE arrival SET last = " + std::to_string(at)).c_str());
  }
  std::vector<std::string> retain(std::int64_t oldest, std::uint64_t bytes) {
    std::vector<std::string> names;
    for (const Store::Removed& r : store->retain(oldest, bytes)) {
      names.push_back(r.index);
      EXPECT_NE(r.why, "");
      EXPECT_EQ(r.events, 1u);
    }
    return names;
  }
  const std::int64_t limit = kMorning + 60 * kSecond;
};
TEST_F(Retention, DeletesWholeIndexes) {
  add(1, 0, 200, "old");
  commit("day-1");
  arrived("day-1", kMorning);
  add(2, 1440, 200, "new");
  commit("day-2");
  arrived("day-2", kMorning);
  EXPECT_EQ(retain(limit, 0), Bodies{"day-1"});
  EXPECT_EQ(find(""), Bodies{"new"});
  add(3, 1450, 200, "more");
  commit("day-3");
  EXPECT_EQ(retain(0, 1), Bodies{"day-2"}) << "the newest stays";
}
TEST_F(Retention, TheOldestByTheirEventsMakeRoomWhateverTheirArrival) {
  const std::vector<std::pair<const char*, std::int64_t>> days{{"day-1", kMorning + 9 * kSecond},
                                                               {"day-2", kMorning}};
  for (int day = 1; day <= 2; ++day) {
    add(static_cast<std::uint64_t>(day), day, 200, "one");
    commit("day-" + std::to_string(day));
  }
  for (const auto& [index, at] : days) arrived(index, at);
  EXPECT_EQ(retain(0, 1), Bodies{"day-1"});
}
TEST_F(Retention, WhatWasImportedStaysUntilItsArrivalIsOld) {
  add(1, -1'000'000, 200, "of two years ago");
  commit("old");
  EXPECT_EQ(retain(limit, 0), Bodies{});
  store->merge();
  EXPECT_EQ(retain(system_now() - 60 * kSecond, 0), Bodies{});
  EXPECT_EQ(retain(system_now() + 60 * kSecond, 0), Bodies{"old"});
}
TEST_F(Retention, AWildEventTimeKeepsNoIndexForEver) {
  add(1, 120'000'000, 200, "in 2255");
  commit("wild");
  EXPECT_EQ(retain(limit, 0), Bodies{});
  arrived("wild", kMorning);
  EXPECT_EQ(retain(limit, 0), Bodies{"wild"});
}
TEST_F(Retention, AFileOfAnEarlierProgramCountsByItsOwnTime) {
  add(1, 0, 200, "old");
  commit("day-1");
  store.reset();
  {
    Connection file(Store::at(folder)->path_of("day-1"), SQLITE_OPEN_READWRITE);
    file.run("DROP TABLE arrival");
  }
  store = Store::at(folder);
  EXPECT_EQ(retain(limit, 0), Bodies{});
  EXPECT_EQ(retain(system_now() + 60 * kSecond, 0), Bodies{"day-1"});
}
TEST_F(Retention, NothingIsRemovedThatWouldBeSentAgain) {
  add(1, 0, 200, "old");
  commit("day-1");
  std::filesystem::create_directories(folder + "/held.new/x");  // what is held cannot be written down
  EXPECT_FALSE(store->remove("day-1"));
  EXPECT_EQ(find(""), Bodies{"old"});
}
TEST_F(StoreTest, ADamagedIndexSaysWhatToDo) {
  add(1, 0, 200, "lost");
  commit("day-1");
  store.reset();
  store = Store::at(folder);
  std::ofstream(store->path_of("day-1"), std::ios::trunc) << std::string(100'000, 'x');
  add(2, 0, 200, "waits");
  const auto outcome = commit("day-1");
  EXPECT_EQ(outcome.form, Store::Outcome::Form::retry);
  EXPECT_NE(outcome.reason.find("move it away"), std::string::npos) << outcome.reason;
}

TEST_F(StoreTest, DeletedIndexIsBegunAnew) {
  add(1, 0, 200, "gone");
  commit();
  EXPECT_TRUE(store->remove("gate-2026-11-23"));
  EXPECT_FALSE(store->remove("gate-2026-11-23"));
  EXPECT_FALSE(store->remove("../gate"));
  add(2, 0, 200, "here");
  EXPECT_EQ(commit().stored, 1u);
  EXPECT_EQ(find(""), (Bodies{"here"}));
}

TEST_F(StoreTest, SearchingGoesOnWhileWriting) {
  std::atomic<bool> done{false};
  std::thread reader([&] {
    std::size_t before = 0;
    while (!done) {
      Scanned scanned;
      const std::size_t now = find_events({store.get()}, {}, 10'000, false, scanned).size();
      EXPECT_GE(now, before);
      EXPECT_TRUE(scanned.problems.empty()) << scanned.problems[0];
      before = now;
    }
  });
  for (std::uint64_t n = 1; n <= 60; ++n) {
    add(n, 0, 200, "x");
    commit();
    if (n % 10 == 0) store->merge();
  }
  done = true;
  reader.join();
  EXPECT_EQ(find("").size(), 60u);
}

TEST(IndexName, IsMadeSafe) {
  EXPECT_EQ(index_name("gate-2026-11-23"), "gate-2026-11-23");
  EXPECT_EQ(index_name("../../etc/x y"), "_._.._etc_x_y");
  EXPECT_EQ(index_name(""), "unnamed");
  EXPECT_EQ(index_name(std::string(500, 'a')).size(), 120u);
}

TEST(Block, DamagedDirectoriesAndChunksNeverCrash) {
  BlockEncoder encoder;
  std::vector<Field> fields{{field_id("a"), Value::text("some text")}, {field_id("n"), Value::integer(4)}};
  std::vector<StoredEvent> events(20, StoredEvent{5, 6, {1, 1, 1, 0}, 1, 2, "the body", fields, {}});
  std::size_t taken = 0;
  const EncodedBlock good = encoder.encode(events, taken);
  std::mt19937_64 random(4);
  for (int i = 0; i < 3000; ++i) {
    std::string directory = good.directory, chunk = good.chunks[0];
    directory[random() % directory.size()] = static_cast<char>(random());
    if (random() % 2) chunk[random() % chunk.size()] = static_cast<char>(random());
    auto block = Block::open(directory, [&](std::size_t) { return std::optional(chunk); });
    if (!block) continue;
    std::vector<Field> out;
    std::string json;
    for (std::size_t row = 0; row < block->count(); ++row)
      append_event_json(block->event(row, out), true, json);
  }
}

}  // namespace
}  // namespace dingle
