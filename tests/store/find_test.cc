// What searches find and count.
#include <algorithm>

#include "core/condition/condition.h"
#include "store/sqlite.h"
#include "tests/store/store_fixture.h"

namespace dingle {
namespace {

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
  EXPECT_EQ(find("status = 200"), (Bodies{"one"}));
  EXPECT_EQ(find("mentions 'resource'"), Bodies{});
}

// As it came from its source: what its resource said is there, whatever its own fields are called, and after blocks were merged too.

TEST_F(StoreTest, KeepsTheResourceApart) {
  const Field resource[] = {{field_id("status"), Value::text("of the resource")},
                            {field_id("berth"), Value::text("north-2")},
                            {names::source, Value::text("gate")}};
  for (std::uint64_t n = 1; n <= 12; ++n) {
    add(n, 0, 200, "one");
    events[0].more = resource;
    if (n == 5) events[0].fields = {};
    commit();
  }
  store->merge();
  EXPECT_EQ(store->indexes().at(0).blocks, 1u);
  IndexReader reader(store->path_of("gate-2026-11-23"));
  const auto block = reader.open(reader.blocks(INT64_MIN, INT64_MAX).at(0).id);
  ASSERT_TRUE(block);
  std::vector<Field> own, more;
  for (std::size_t row = 0; row < block->count(); ++row) {
    const bool bare = row == 4;
    const StoredEvent e = block->event(row, own, more);
    EXPECT_EQ(e.fields.size(), bare ? 0u : 1u);
    std::string all;
    for (const Field& f : e.more) all += std::string(field_name(f.name)) + "=" + f.value.to_string() + " ";
    EXPECT_EQ(all, "status=of the resource berth=north-2 dingle.source=gate ");
    block->select(row);
    EXPECT_EQ(block->get(field_id("status")).to_string(), bare ? "of the resource" : "200");
  }
  EXPECT_EQ(find("dingle.source = 'gate' and berth = 'north-2'").size(), 12u);
  EXPECT_EQ(find("status = 200").size(), 11u);
  EXPECT_EQ(find("mentions 'resource'").size(), 1u);
}

TEST_F(StoreTest, TellsWhichFieldsNothingHas) {
  add(1, 0, 200, "one");
  add(2, 1, 503, "two");
  commit();
  const auto unknown = [&](const Query& q) { return unknown_fields({store.get()}, q, q.where.fields()); };
  Query q;
  q.where =
      *Condition::parse("statsu >= 500 and body like 'x%' and timestamp > '2026-01-01' and reason = 'x'");
  UnknownFields u = unknown(q);
  EXPECT_EQ(u.unknown, (std::vector<std::string>{"statsu"}));
  EXPECT_EQ(u.blocks, 1u);
  EXPECT_NE(std::find(u.known.begin(), u.known.end(), "status"), u.known.end());
  q.from = kMorning + 3600 * kSecond;
  EXPECT_EQ(unknown(q).blocks, 0u) << "nothing in that time";
}

TEST_F(StoreTest, FindsByConditionWordsAndTimeNewestFirst) {
  add(1, 0, 200, "gate 7 opened");
  add(2, 1, 503, "gate 8 refused");
  add(3, 200, 200, "gate 7 closed");
  ASSERT_EQ(commit().stored, 3u);
  EXPECT_EQ(find(""), (Bodies{"gate 7 closed", "gate 8 refused", "gate 7 opened"}));
  EXPECT_EQ(find("status >= 500"), (Bodies{"gate 8 refused"}));
  EXPECT_EQ(find("mentions 'GATE 7'"), (Bodies{"gate 7 closed", "gate 7 opened"}));
  EXPECT_EQ(find("mentions 'server'"), (Bodies{"gate 8 refused"}));
  EXPECT_EQ(find("mentions 'serve'"), Bodies{});
  EXPECT_EQ(find("timestamp < '2026-11-23T08:01:30Z'", 1), (Bodies{"gate 8 refused"}));
  EXPECT_EQ(find("reason is null and status = 200", 1), (Bodies{"gate 7 closed"}));
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
  EXPECT_EQ(left_out("mentions 'word2'"), 2u);
  EXPECT_EQ(left_out("status > 250"), 2u);
  EXPECT_EQ(left_out("nothing = 1"), 3u);
  EXPECT_EQ(left_out("status <> 100"), 0u);
  {  // filters that say yes to everything
    Connection file(store->path_of("gate-2026-11-23"), SQLITE_OPEN_READWRITE);
    file.run("UPDATE filter SET data = x''");
  }
  EXPECT_EQ(left_out("mentions 'WORD2'"), 2u) << "their texts do not have it";
  EXPECT_EQ(find("mentions 'WORD2'"), Bodies{"word2"});
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

TEST_F(StoreTest, TheBeginningOfATimeIsWithinItAndItsEndIsNot) {
  for (std::uint64_t n = 1; n <= 4; ++n) add(n, static_cast<std::int64_t>(n), 200, "e" + std::to_string(n));
  commit();
  const std::int64_t minute = 60 * kSecond;
  auto within = [&](std::int64_t from, std::int64_t to) {
    Query q;
    q.from = kMorning + from, q.to = kMorning + to;
    Scanned scanned;
    const std::size_t found = find_events({store.get()}, q, 10, false, scanned).size();
    EXPECT_EQ(scanned.matched, found);
    Grouping g;
    EXPECT_EQ(group_events({store.get()}, q, g, scanned).events, found);
    return found;
  };
  EXPECT_EQ(within(minute, 4 * minute), 3u);
  EXPECT_EQ(within(minute + 1, 4 * minute + 1), 3u);
  EXPECT_EQ(within(2 * minute, 2 * minute + 1), 1u);
  EXPECT_EQ(within(2 * minute, 2 * minute), 0u);
  EXPECT_EQ(within(3 * minute, 2 * minute), 0u);
  EXPECT_EQ(within(4 * minute + 1, 9 * minute), 0u);
}

TEST_F(StoreTest, TheNewestIndexComesFirstWhateverItsName) {
  add(1, 0, 200, "old");
  commit("a");
  add(2, 60, 200, "new");
  commit("b");
  Scanned scanned;
  const auto found = find_events({store.get()}, Query(), 1, false, scanned);
  ASSERT_EQ(found.size(), 1u);
  EXPECT_EQ(found[0].index, "b");
  EXPECT_EQ(scanned.events, 1u) << "the other one cannot have a newer event, and is not read";
  EXPECT_EQ(scanned.blocks_left_out, 1u);
  EXPECT_FALSE(scanned.stopped);
}

TEST_F(StoreTest, ASearchEndsWhenItsTimeIsOver) {
  add(1, 0, 200, "one");
  commit();
  Query query;
  query.until = std::chrono::steady_clock::now();
  Scanned scanned;
  EXPECT_TRUE(find_events({store.get()}, query, 10, false, scanned).empty());
  EXPECT_TRUE(scanned.stopped);
  scanned = {};
  EXPECT_TRUE(group_events({store.get()}, query, {}, scanned).groups.empty());
  EXPECT_TRUE(scanned.stopped);
  query.until += std::chrono::hours(1);
  scanned = {};
  EXPECT_EQ(find_events({store.get()}, query, 10, false, scanned).size(), 1u);
  EXPECT_FALSE(scanned.stopped);
}

TEST_F(StoreTest, IndexesAreChosenByTheirNames) {
  for (const char* index : {"gate-1", "gate-2", "tide-1"}) {
    add(events.size() + 1 + fields.size(), 0, 200, index);
    commit(index);
  }
  auto of = [&](std::vector<std::string> indexes) {
    Query q;
    q.indexes = std::move(indexes);
    Scanned scanned;
    std::string bodies;
    for (const FoundEvent& e : find_events({store.get()}, q, 10, false, scanned)) bodies += e.index + " ";
    EXPECT_EQ(scanned.events, scanned.indexes);
    return bodies;
  };
  EXPECT_EQ(of({"gate-*"}).size(), 14u);
  EXPECT_EQ(of({"gate-2", "tide-*"}).size(), 14u);
  EXPECT_EQ(of({"x*"}), "");
  EXPECT_EQ(of({}).size(), 21u);
}

TEST_F(StoreTest, AnEventThatIsInTwoStoresIsFoundAndCountedOnce) {
  const auto second = Store::at(folder + "/second");
  for (std::uint64_t n = 1; n <= 3; ++n) add(n, static_cast<std::int64_t>(n), 200, "e" + std::to_string(n));
  second->commit("copy", {sender.spool, 1, 5, 2}, std::span(events).first(2));
  commit();
  Scanned scanned;
  EXPECT_EQ(find_events({store.get(), second.get()}, {}, 10, false, scanned).size(), 3u);
  EXPECT_EQ(scanned.matched, 5u);
  const Grouped grouped = group_events({store.get(), second.get()}, {}, {}, scanned);
  EXPECT_EQ(grouped.events, 3u);
  EXPECT_FALSE(grouped.approximate);
  const auto newest = find_events({store.get(), second.get()}, {}, 2, false, scanned);
  ASSERT_EQ(newest.size(), 2u);
  EXPECT_EQ(newest[0].timestamp, kMorning + 180 * kSecond);
  EXPECT_EQ(newest[1].timestamp, kMorning + 120 * kSecond);
}

TEST_F(StoreTest, PagesLeaveNothingOutAndShowNothingTwice) {
  // Many of one time, over several blocks and indexes.
  std::uint64_t n = 0;
  for (int part = 0; part < 6; ++part) {
    for (int i = 0; i < 50; ++i, ++n)
      add(n + 1, static_cast<std::int64_t>(n * 7 % 5), 200, "e" + std::to_string(n));
    commit(part % 2 ? "odd" : "even");
  }
  for (const bool oldest : {false, true})
    for (const std::size_t limit : {1u, 7u, 50u, 299u, 300u, 1000u}) {
      Query query;
      query.oldest = oldest;
      std::vector<EventPlace> all;
      for (std::size_t pages = 0; pages < 400; ++pages) {
        Scanned scanned;
        const auto found = find_events({store.get()}, query, limit, false, scanned);
        for (const FoundEvent& e : found) all.push_back(e.place());
        if (found.size() < limit) break;
        query.after = EventPlace::parse(found.back().place().text());
        ASSERT_TRUE(query.after);
      }
      EXPECT_EQ(all.size(), n) << limit;
      EXPECT_TRUE(std::is_sorted(all.begin(), all.end(), [&](const EventPlace& a, const EventPlace& b) {
        return oldest ? a < b : a > b;
      }));
      EXPECT_EQ(std::adjacent_find(all.begin(), all.end()), all.end());
    }
}

TEST(EventPlaces, AreReadAsTheyAreWritten) {
  const EventPlace place{-5, {UINT64_MAX, 1, 0, 17}};
  EXPECT_EQ(EventPlace::parse(place.text()), place);
  for (const char* none :
       {"", "1", "1-2-3-4", "1-2-3-4-5-6", "x-1-1-1-1", "1-1-1-1-", "1-1-1-1-g", "1-1-1-1-11111111111111111"})
    EXPECT_EQ(EventPlace::parse(none), std::nullopt) << none;
}

TEST_F(StoreTest, FieldsAreSeenInTheDirectories) {
  add(1, 0, 200, "a"), add(2, 0, 503, "b"), add(3, 0, 200, "c");
  fields.back()[0] = {field_id("status"), Value::text("ok")};
  fields.back().push_back({field_id("long"), Value::text(texts.emplace_back(std::string(3000, 'x')))});
  events.back().fields = fields.back();
  const std::vector<Field> more{{field_id("service.name"), Value::text("gate")}};
  for (StoredEvent& e : events) e.more = more;
  commit();
  add(4, 1440, 200, "the next day");
  commit("gate-2026-11-24");
  Scanned scanned;
  std::string shown;
  const FieldsSeen seen = fields_seen({store.get()}, {}, scanned);
  for (const FieldSeen& f : seen.fields) {
    shown += f.name + (f.own ? "" : "*");
    for (const auto& [kind, n] : f.kinds)
      shown += " " + std::string(kind_name(kind)) + ":" + std::to_string(n);
    for (const std::string& e : f.examples) shown += " " + e.substr(0, 12);
    shown += "; ";
  }
  EXPECT_EQ(shown,
            "long text:1 xxxxxxxxxxxx; reason text:1 server 503; service.name* text:3 gate; status text:1 "
            "int:3 200; ");
  EXPECT_EQ(seen.events, 4u);
  EXPECT_EQ(scanned.blocks, 2u);
  Query one;
  one.indexes = {"gate-2026-11-24"};
  EXPECT_EQ(fields_seen({store.get()}, one, scanned).fields.size(), 1u);
  one.from = one.to = kMorning;
  EXPECT_TRUE(fields_seen({store.get()}, one, scanned).fields.empty());
}

// Enough blocks that several threads read them: all groups and measures are those of one.

TEST_F(StoreTest, NoEventsWantedCostsNoScan) {
  add(1, 0, 200, "x");
  commit();
  Scanned scanned;
  EXPECT_TRUE(find_events({store.get()}, {}, 0, false, scanned).empty());
  EXPECT_EQ(scanned.events, 0u);
}

TEST_F(StoreTest, OldBlocksAreNotOpenedOnceThereAreEnoughNewerOnes) {
  for (std::uint64_t n = 1; n <= 5; ++n) {
    add(n, static_cast<std::int64_t>(n) * 60, 200, "x");
    commit();
  }
  Scanned scanned;
  EXPECT_EQ(find_events({store.get()}, {}, 2, false, scanned).size(), 2u);
  EXPECT_EQ(scanned.blocks, 5u);
  EXPECT_EQ(scanned.blocks_left_out, 3u);
  EXPECT_FALSE(scanned.cut);
}

TEST_F(StoreTest, ADamagedBlockIsToldAndTheOthersAreFound) {
  for (std::uint64_t n = 1; n <= 2; ++n) {
    add(n, static_cast<std::int64_t>(n) * 60, 200, "e" + std::to_string(n));
    commit("day-1");
  }
  {
    Connection file(store->path_of("day-1"), SQLITE_OPEN_READWRITE);
    file.run("UPDATE block SET directory = x'00' WHERE id = 1");
  }
  Scanned scanned;
  EXPECT_EQ(find_events({store.get()}, {}, 10, false, scanned).size(), 1u);
  ASSERT_EQ(scanned.problems.size(), 1u);
  EXPECT_NE(scanned.problems[0].find("day-1"), std::string::npos);
}

// A bit that was lost would say that the word is nowhere.

TEST_F(StoreTest, ADamagedFilterOfWordsHidesNothing) {
  add(1, 60, 200, "moored at the quay");
  commit("day-1");
  Query query;
  query.where = *Condition::parse("mentions 'moored'");
  Scanned scanned;
  EXPECT_EQ(find_events({store.get()}, query, 10, false, scanned).size(), 1u);
  EXPECT_TRUE(scanned.problems.empty());
  {
    Connection file(store->path_of("day-1"), SQLITE_OPEN_READWRITE);
    file.run("UPDATE filter SET data = zeroblob(length(data))");
  }
  EXPECT_EQ(find_events({store.get()}, query, 10, false, scanned).size(), 1u);
  ASSERT_EQ(scanned.problems.size(), 1u);
  EXPECT_NE(scanned.problems[0].find("filter of words is damaged"), std::string::npos);
  {  // as an older index has it
    Connection file(store->path_of("day-1"), SQLITE_OPEN_READWRITE);
    file.run("UPDATE filter SET data = zeroblob(length(data) - 4)");
  }
  EXPECT_EQ(find_events({store.get()}, query, 10, false, scanned).size(), 0u) << "those cannot be known";
}

}  // namespace
}  // namespace dingle
