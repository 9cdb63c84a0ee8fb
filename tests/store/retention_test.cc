// Which indexes are removed, when, and that it is noted.
#include <fstream>

#include "store/sqlite.h"
#include "tests/store/store_fixture.h"

namespace dingle {
namespace {

class Retention : public StoreTest {
 protected:
  void arrived(const std::string& index, std::int64_t at) {
    Connection file(store->path_of(index), SQLITE_OPEN_READWRITE);
    file.run(("UPDATE arrival SET last = " + std::to_string(at)).c_str());
  }
  std::vector<std::string> retain(std::int64_t oldest, std::uint64_t bytes) {
    std::vector<std::string> names;
    for (const Removed& r : store->retain(oldest, bytes)) {
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
TEST_F(Retention, AWildEventTimeIsNoNewestWhenRoomIsMade) {
  add(1, 120'000'000, 200, "in 2255");
  commit("wild");
  arrived("wild", kMorning);
  add(2, 5, 200, "five past eight");
  commit("day");
  arrived("day", kMorning + 600 * kSecond);
  EXPECT_EQ(retain(0, 1), Bodies{"wild"});
}
TEST_F(Retention, WhatWentIsListed) {
  EXPECT_TRUE(store->removed().empty());
  add(1, 0, 200, "old");
  commit("day-1");
  arrived("day-1", kMorning);
  add(2, 1440, 200, "new"), add(3, 1440, 200, "new");
  commit("day-2");
  EXPECT_EQ(retain(limit, 0), Bodies{"day-1"});
  ASSERT_TRUE(store->remove("day-2", "deleted by anna"));
  const auto gone = store->removed();
  ASSERT_EQ(gone.size(), 2u);
  EXPECT_EQ(gone[0].index, "day-1");
  EXPECT_EQ(gone[0].events, 1u);
  EXPECT_EQ(gone[0].why, "its last event and its last arrival are older than `keep.age`");
  EXPECT_EQ(gone[1].why, "deleted by anna");
  EXPECT_EQ(gone[1].events, 2u);
  EXPECT_GT(gone[1].bytes, 0u);
  for (int i = 0; i < 300; ++i) note_removed(folder, {"i" + std::to_string(i), "x", 1, 1, i});
  EXPECT_EQ(store->removed().size(), kMostRemovals);
  EXPECT_EQ(store->removed().back().index, "i299");
  note_removed(folder, {"i299", "again", 1, 1, 300});
  EXPECT_EQ(store->removed().size(), kMostRemovals) << "a removal that is done again counts once";
}

TEST_F(Retention, NoMoreIsRemovedThanIsNeeded) {
  for (int day = 1; day <= 3; ++day) {
    add(static_cast<std::uint64_t>(day), day, 200, "one");
    commit("day-" + std::to_string(day));
  }
  std::uint64_t bytes = 0;
  for (const IndexInfo& info : store->indexes()) bytes += info.bytes;
  EXPECT_EQ(retain(0, bytes), Bodies{});
  EXPECT_EQ(retain(0, bytes - 1), Bodies{"day-1"});
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
  EXPECT_FALSE(store->remove("day-1", "deleted"));
  EXPECT_EQ(find(""), Bodies{"old"});
}

}  // namespace
}  // namespace dingle
