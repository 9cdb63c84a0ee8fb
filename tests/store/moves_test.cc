// Events that take the place of stored ones, in the same index and in others.
#include <fstream>
#include <thread>

#include "store/sqlite.h"
#include "tests/store/store_fixture.h"

namespace dingle {
namespace {

class MovesTest : public StoreTest {
 protected:
  std::deque<Replaced> replaced;
  // The next event takes the place of that of record `number`, which stands in `index`.
  void replace(std::uint64_t number, const std::string& index, std::int64_t minute = 0) {
    events.back().replaces = &replaced.emplace_back(Replaced{
        texts.emplace_back(index), kMorning + minute * 60 * kSecond, sender.spool, sender.epoch, number, 0});
  }
  static constexpr const char *kOne = "gate-2026-11-23", *kTwo = "gate-2026-11-24";
  std::map<std::string, std::uint64_t> counts() {
    std::map<std::string, std::uint64_t> all;
    for (const IndexInfo& i : store->indexes()) all[i.name] = i.events;
    return all;
  }
  // What a program leaves that ended before it took out what others replaced.
  void leave_in_the_middle() {
    add(1, 0, 200, "a"), add(2, 1, 200, "b");
    commit(kOne);
    const std::string path = store->path_of(kTwo);
    store.reset();
    add(3, 2, 200, "A");
    replace(1, kOne);
    BlockEncoder encoder;
    IndexFile file(path);
    IndexFile::Request request{sender, events, 0, 0, ""};
    IndexFile::Request* const all[] = {&request};
    file.commit(all, encoder);
    events.clear();
    std::ofstream(folder + "/moving") << "1\n";
  }
};

TEST_F(MovesTest, InOneIndexTheyTakeTheirPlace) {
  for (std::uint64_t n = 1; n <= 4; ++n) add(n, static_cast<std::int64_t>(n), 200, "old" + std::to_string(n));
  commit();
  add(5, 9, 200, "new2");
  replace(2, kOne, 2);
  add(6, 9, 200, "new9");
  replace(9, kOne, 2);  // that is not there
  EXPECT_EQ(commit().stored, 2u);
  EXPECT_EQ(find(""), (Bodies{"new9", "new2", "old4", "old3", "old1"}));
  EXPECT_EQ(store->moves().still(std::chrono::steady_clock::now()), 0u);
  EXPECT_FALSE(std::filesystem::exists(folder + "/moving"));
  EXPECT_EQ(store->held(sender)->stored, 6u);  // as it was told, whatever was taken out
}

TEST_F(MovesTest, FromAnotherIndexTheyAreTakenOutThere) {
  for (std::uint64_t n = 1; n <= 3; ++n) add(n, static_cast<std::int64_t>(n), 200, "old" + std::to_string(n));
  commit(kOne);
  const auto move = [&] {
    for (std::uint64_t n = 1; n <= 3; ++n) {
      add(3 + n, 60 * 24, 200, "new" + std::to_string(n));
      replace(n, kOne, static_cast<std::int64_t>(n));
    }
    return commit(kTwo);
  };
  EXPECT_EQ(move().stored, 3u);
  EXPECT_EQ(counts(), (std::map<std::string, std::uint64_t>{{kOne, 0}, {kTwo, 3}}));
  EXPECT_EQ(store->moves().still(std::chrono::steady_clock::now()), 2u);
  EXPECT_EQ(move().known, 3u);  // sent again after a crash
  EXPECT_EQ(find("").size(), 3u);
  // The emptied one knows what came, and stays until it is old.
  add(1, 0, 200, "once more");
  EXPECT_EQ(commit(kOne).known, 1u);
  EXPECT_TRUE(store->retain(system_now() - 3600 * kSecond, 0).empty());
  EXPECT_EQ(store->retain(system_now() + 3600 * kSecond, 0).size(), 2u);
}

TEST_F(MovesTest, WhatACrashLeftIsTakenOutBeforeAnybodySearches) {
  leave_in_the_middle();
  store = Store::at(folder);
  EXPECT_EQ(find(""), (Bodies{"A", "b"}));
  EXPECT_FALSE(std::filesystem::exists(folder + "/moving"));
}

TEST_F(MovesTest, WhatIsListedIsGoneBeforeItsIndexIs) {
  leave_in_the_middle();
  store = Store::at(folder);
  EXPECT_TRUE(store->remove(kTwo, "deleted"));
  EXPECT_EQ(find(""), Bodies{"b"});
}

TEST_F(MovesTest, AnIndexThatIsGoneOrDamagedHoldsUpNobody) {
  leave_in_the_middle();
  std::ofstream(folder + "/" + kOne + ".index")
      << "no database at all, but long enough to be looked at as one";
  for (const char* more : {"-wal", "-shm"}) std::filesystem::remove(folder + "/" + kOne + ".index" + more);
  store = Store::at(folder);
  EXPECT_TRUE(store->moves().still(std::chrono::steady_clock::now()));
  EXPECT_EQ(counts()[kTwo], 1u);
}

TEST_F(MovesTest, WhatWasStoredIsThereOrIsKnownToBeGone) {
  const auto kept = [&] {
    const auto k = store->kept();
    EXPECT_TRUE(k);
    EXPECT_EQ(k->stored, k->accounted);
    return k->stored;
  };
  EXPECT_EQ(kept(), 0u);
  for (std::uint64_t n = 1; n <= 3; ++n) add(n, static_cast<std::int64_t>(n), 200, "old" + std::to_string(n));
  commit(kOne);
  add(4, 60 * 24, 200, "new1");
  replace(1, kOne, 1);
  commit(kTwo);
  EXPECT_EQ(kept(), 4u);
  EXPECT_TRUE(store->take_out(kOne, std::vector<IndexFile::Gone>{{kMorning + 120 * kSecond, {11, 1, 2, 0}}}));
  EXPECT_EQ(kept(), 4u);
  EXPECT_TRUE(store->remove(kOne, "deleted"));
  EXPECT_EQ(kept(), 4u);
  Connection(store->path_of(kTwo), SQLITE_OPEN_READWRITE | SQLITE_OPEN_NOMUTEX).run("DELETE FROM block");
  EXPECT_EQ(store->kept()->stored, 4u);
  EXPECT_EQ(store->kept()->accounted, 3u);  // somebody else took it
}

TEST_F(MovesTest, WhatJustCameAndWillSoonGoIsTold) {
  add(1, -60 * 24 * 30, 200, "old");
  commit("gate-2026-10-24");
  add(2, 0, 200, "new");
  commit(kOne);
  std::uint64_t bytes = 0;
  for (const IndexInfo& i : store->indexes()) bytes += i.bytes;
  EXPECT_EQ(store->soon_gone(0), "");
  EXPECT_EQ(store->soon_gone(2 * bytes), "");
  EXPECT_NE(store->soon_gone(bytes).find("the index gate-2026-10-24, to which events came"),
            std::string::npos);
}

TEST_F(MovesTest, EventsAreTakenOutOnce) {
  for (std::uint64_t n = 1; n <= 5000; ++n) add(n, 0, 200, "e" + std::to_string(n));
  commit();
  std::vector<IndexFile::Gone> gone;
  for (std::uint64_t n = 10; n < 20; ++n) gone.push_back({kMorning, {sender.spool, sender.epoch, n, 0}});
  EXPECT_EQ(*store->take_out(kOne, gone), 10u);
  EXPECT_EQ(*store->take_out(kOne, gone), 0u);
  EXPECT_EQ(*store->take_out("none", gone), 0u);
  EXPECT_EQ(counts()[kOne], 4990u);
  EXPECT_TRUE(find("body = 'e15'").empty());
  EXPECT_EQ(find("body = 'e20'").size(), 1u);
}

TEST(MovesGate, WhoSearchesSeesWhetherSomethingMovesOrHoldsItOff) {
  Moves moves;
  const auto now = [] { return std::chrono::steady_clock::now(); };
  EXPECT_EQ(moves.still(now()), 0u);
  moves.begin();
  EXPECT_TRUE(moves.under_way());
  EXPECT_EQ(moves.still(now()), std::nullopt);
  EXPECT_FALSE(moves.hold(now()));
  moves.begin();  // it goes on
  moves.end();
  EXPECT_EQ(moves.still(now()), 2u);
  EXPECT_TRUE(moves.hold(now()));
  std::atomic<bool> begun{false};
  std::thread mover([&] {
    moves.begin();
    begun = true;
  });
  std::this_thread::sleep_for(std::chrono::milliseconds(20));
  EXPECT_FALSE(begun);
  moves.let_go();
  mover.join();
  EXPECT_TRUE(moves.under_way());
}

}  // namespace
}  // namespace dingle
