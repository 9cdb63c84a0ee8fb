// One bit that turned at rest, anywhere in an index's file: never another value, and what is left out is told.
#include <fstream>
#include <map>

#include "store/scan.h"
#include "tests/store/store_fixture.h"

namespace dingle {
namespace {

class DamageTest : public StoreTest {
 protected:
  std::map<std::string, std::string> known;  // events as JSON, by their body

  std::string path() const { return store->path_of("gate-2026-11-23"); }
  void fill(int n) {
    for (int i = 0; i < n; ++i)
      add(static_cast<std::uint64_t>(i + 1), i / 40, 200 + i % 400,
          "scan " + std::to_string(i * 7919) + " of the gate");
    ASSERT_EQ(commit().reason, "");
    Scanned scanned;
    for (const FoundEvent& e : all(scanned)) known[body_of(e)] = e.json;
    ASSERT_EQ(known.size(), static_cast<std::size_t>(n));
    EXPECT_TRUE(scanned.complete());
    store.reset();  // closed: the log beside it is in it
    store = Store::at(folder);
  }
  static std::string body_of(const FoundEvent& e) {
    const std::size_t from = e.json.find("\"body\":\"") + 8;
    return e.json.substr(from, e.json.find('"', from) - from);
  }
  std::vector<FoundEvent> all(Scanned& scanned, const std::string& where = "") {
    Query q;
    if (!where.empty()) q.where = *Condition::parse(where);
    return find_events({store.get()}, q, 100'000, false, scanned);
  }
  void turn_bit(std::streamoff at) {
    std::fstream file(path(), std::ios::in | std::ios::out | std::ios::binary);
    char c = 0;
    file.seekg(at).get(c);
    file.seekp(at).put(static_cast<char>(c ^ (1 << at % 8)));
  }
};

TEST_F(DamageTest, NoBitGivesAnotherValue) {
  fill(3000);
  const auto size = static_cast<std::streamoff>(std::filesystem::file_size(path()));
  std::size_t told = 0, tried = 0;
  for (std::streamoff at = 0; at < size; at += 1013, ++tried) {
    turn_bit(at);
    for (const char* where : {"", "mentions 'gate'", "status >= 300"}) {
      Scanned scanned;
      std::size_t found = 0;
      for (const FoundEvent& e : all(scanned, where)) {
        const auto it = known.find(body_of(e));
        ASSERT_NE(it, known.end()) << "bit at " << at << ": " << e.json;
        ASSERT_EQ(e.json, it->second) << "bit at " << at;
        ++found;
      }
      const std::size_t expected = where == std::string("status >= 300") ? 2200 : known.size();
      if (found != expected) {
        ASSERT_FALSE(scanned.complete()) << "bit at " << at << ": " << found << " with " << where;
        ASSERT_FALSE(scanned.problems.empty());
        ++told;
      }
    }
    turn_bit(at);
  }
  EXPECT_GT(told, tried / 2) << "most of the file holds something";
  Scanned scanned;
  EXPECT_EQ(all(scanned).size(), known.size());
}

TEST_F(DamageTest, AnIndexThatSomebodyTookAwayIsMissed) {
  fill(10);
  EXPECT_TRUE(store->missing().empty());
  store.reset();
  std::filesystem::rename(folder + "/gate-2026-11-23.index", folder + "/away");
  store = Store::at(folder);
  EXPECT_EQ(store->missing(), std::vector<std::string>{"gate-2026-11-23"});
  Scanned scanned;
  EXPECT_TRUE(all(scanned).empty());
  EXPECT_FALSE(scanned.complete());
  ASSERT_EQ(scanned.problems.size(), 1u);
  EXPECT_NE(scanned.problems[0].find("its file is gone"), std::string::npos);
  EXPECT_TRUE(store->remove("gate-2026-11-23", "given up"));
  EXPECT_TRUE(store->missing().empty());
  EXPECT_EQ(store->removed().size(), 1u);
  EXPECT_FALSE(store->remove("gate-2026-11-23", "again"));
}

TEST_F(DamageTest, AFileOfAnotherFormatIsRefusedWithAMessage) {
  std::filesystem::create_directories(folder);
  sqlite3* db = nullptr;
  ASSERT_EQ(sqlite3_open((folder + "/old.index").c_str(), &db), SQLITE_OK);
  sqlite3_exec(db, "CREATE TABLE block(id INTEGER PRIMARY KEY)", nullptr, nullptr, nullptr);
  sqlite3_close(db);
  Scanned scanned;
  EXPECT_TRUE(all(scanned).empty());
  EXPECT_FALSE(scanned.complete());
  ASSERT_EQ(scanned.problems.size(), 1u);
  EXPECT_NE(scanned.problems[0].find("not written by this version"), std::string::npos)
      << scanned.problems[0];
}

}  // namespace
}  // namespace dingle
