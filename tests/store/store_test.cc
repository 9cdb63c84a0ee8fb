#include "store/store.h"

#include <sys/syscall.h>
#include <unistd.h>

#include <atomic>
#include <cerrno>
#include <fstream>
#include <nlohmann/json.hpp>
#include <random>
#include <thread>

#include "spool/whole_file.h"
#include "store/sqlite.h"
#include "tests/store/store_fixture.h"

namespace {
std::atomic<bool> syncs_fail{false}, reads_fail{false};
int sync_of(int file, long call) {
  if (syncs_fail) return errno = EIO, -1;
  return static_cast<int>(syscall(call, file));
}
}  // namespace

// The disk of these tests: SQLite's calls come here.
extern "C" int fsync(int file) { return sync_of(file, SYS_fsync); }
extern "C" int fdatasync(int file) { return sync_of(file, SYS_fdatasync); }
extern "C" ssize_t pread64(int file, void* to, size_t size, off64_t at) {
  if (reads_fail) return errno = EIO, -1;
  return static_cast<ssize_t>(syscall(SYS_pread64, file, to, size, at));
}

namespace dingle {
namespace {

TEST_F(StoreTest, WhatWasWrittenThoughItsSyncFailedCountsOnce) {
  add(1, 0, 200, "before");
  commit();
  EXPECT_EQ(store->held(sender)->stored, 1u);
  std::uint64_t n = 2;
  for (int i = 0; i < 3; ++i) {
    const auto both = [&] { add(n, 0, 200, "a"), add(n + 1, 0, 200, "b"); };
    syncs_fail = true;
    both();
    EXPECT_EQ(commit().form, Store::Outcome::Form::retry);
    syncs_fail = false;
    both();
    const auto again = commit();
    EXPECT_EQ(again.form, Store::Outcome::Form::committed);
    EXPECT_EQ(again.stored + again.known, 2u);
    n += 2;
    EXPECT_EQ(store->held(sender)->stored, n - 1);
    EXPECT_EQ(find("").size(), n - 1);
  }
}

TEST_F(StoreTest, WhatCannotBeReadNowIsNotTakenForNothing) {
  add(1, 0, 200, "a");
  commit();
  store.reset();
  store = Store::at(folder);
  reads_fail = true;
  EXPECT_FALSE(store->held(sender));
  EXPECT_FALSE(store->remove("gate-2026-11-23", "deleted")) << "what it holds must be known first";
  reads_fail = false;
  ASSERT_TRUE(store->held(sender));
  EXPECT_EQ(store->held(sender)->stored, 1u);
  EXPECT_EQ(store->held(sender)->newest, (RecordNumber{1, 1}));
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
  EXPECT_EQ(store->held(sender)->newest, (RecordNumber{1, 5}));
  EXPECT_EQ(store->held({sender.spool, 1, 5, 2})->newest, RecordNumber{}) << "of another destination";
  add(9, 0, 200, "c", other);
  commit();
  EXPECT_EQ(store->held(sender)->newest, (RecordNumber{1, 9}));
}

TEST_F(StoreTest, BlocksOfManyBytesAreNotMerged) {
  auto some = [&](int blocks, std::size_t bytes) {
    for (int i = 0; i < blocks; ++i)
      add(fields.size() + 1, 0, 200, std::string(bytes, static_cast<char>('a' + fields.size() % 26))),
          commit("day-1");
    store->merge();
    return store->indexes().at(0).blocks;
  };
  EXPECT_EQ(some(9, 5u << 20), 9u);
  EXPECT_EQ(some(12, 3u << 20), 9u + 1u + 2u) << "ten of them at once";
  EXPECT_EQ(find("").size(), 21u);
}

TEST_F(StoreTest, SmallBlocksOfAnHourAreMergedOthersAreLeftAlone) {
  std::uint64_t n = 0;
  auto some = [&](int blocks, std::int64_t minute) {
    for (int i = 0; i < blocks; ++i) add(++n, minute + i, 200, "x"), commit("day-1");
  };
  auto blocks = [&] { return store->indexes().at(0).blocks; };
  some(7, 0);
  some(7, 60);
  store->merge();
  EXPECT_EQ(blocks(), 14u) << "of two hours, and too few of each";
  some(1, 10);
  store->merge();
  EXPECT_EQ(blocks(), 8u);
  EXPECT_EQ(store->indexes().at(0).events, 15u);
  EXPECT_EQ(find("").size(), 15u);
  Scanned scanned;
  IndexReader reader(store->path_of("day-1"));
  for (const auto& block : reader.blocks(INT64_MIN, INT64_MAX))
    EXPECT_EQ(block.first / (3600 * kSecond), block.last / (3600 * kSecond));
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
  EXPECT_EQ(store->held({2, 1, 2, 1})->newest, (RecordNumber{1, kBatches}));
}

TEST_F(StoreTest, WhatASenderHasThereOutlivesItsIndex) {
  EXPECT_EQ(store->held(sender)->newest, RecordNumber());
  add(7, 0, 200, "a");
  commit("one");
  add(9, 0, 200, "a");
  commit("two");
  EXPECT_EQ(store->held(sender)->newest, (RecordNumber{sender.epoch, 9}));
  store->remove("two", "deleted");
  store.reset();
  store = Store::at(folder);
  EXPECT_EQ(store->held(sender)->newest, (RecordNumber{sender.epoch, 9}));
  EXPECT_EQ(store->held({sender.spool + 1, 1, 1, 1})->newest, RecordNumber());
}

// Its own transactions count; what was removed stays counted, once, whatever a crash leaves of the removing.
TEST_F(StoreTest, CountsWhatItStoredThoughIndexesGo) {
  const auto reopen = [&] { store.reset(), store = Store::at(folder); };
  for (std::uint64_t n = 1; n <= 5; ++n) add(n, 0, 200, "a");
  commit("one");
  add(6, 0, 200, "b"), add(6, 0, 200, "b");
  EXPECT_EQ(commit("two").stored, 1u) << "the other one is there already";
  EXPECT_EQ(store->held(sender)->stored, 6u);
  reopen();
  EXPECT_EQ(store->held(sender)->stored, 6u);
  ASSERT_TRUE(store->remove("one", "deleted"));
  EXPECT_FALSE(store->remove("one", "deleted"));
  EXPECT_EQ(store->held(sender)->stored, 6u);
  reopen();
  EXPECT_EQ(store->held(sender)->stored, 6u);
  add(7, 0, 200, "c");
  commit("one");
  reopen();
  EXPECT_EQ(store->held(sender)->stored, 7u);

  // The end came before the file was gone, and behind it.
  const std::string held = folder + "/held";
  const auto text = [&] {
    std::ifstream file(held);
    return std::string(std::istreambuf_iterator<char>(file), {});
  };
  const std::string before = text();
  ASSERT_EQ(write_whole(held, before + "of two\n11 1 1 6 1\n", 0600), 0);
  reopen();
  EXPECT_EQ(store->held(sender)->stored, 7u);
  store.reset();
  std::filesystem::remove(folder + "/two.index");
  store = Store::at(folder);
  EXPECT_EQ(store->held(sender)->stored, 7u);
  EXPECT_EQ(text().find("of "), std::string::npos) << "before another of that name is made";
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

TEST(IndexNames, LongOnesKeepTheirDay) {
  const std::string a = std::string(160, 'a') + "-2026-11-23", b = std::string(161, 'a') + "-2026-11-23";
  EXPECT_TRUE(is_index_name(index_name(a)));
  EXPECT_TRUE(index_name(a).ends_with("-2026-11-23"));
  EXPECT_NE(index_name(a), index_name(b));
  EXPECT_EQ(index_name("gate-2026-11-23"), "gate-2026-11-23");
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
  EXPECT_TRUE(store->remove("gate-2026-11-23", "deleted"));
  EXPECT_FALSE(store->remove("gate-2026-11-23", "deleted"));
  EXPECT_FALSE(store->remove("../gate", "deleted"));
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
  int damaged = 0;
  for (int i = 0; i < 3000; ++i) {
    std::string directory = good.directory, chunk = good.chunks[0];
    directory[random() % directory.size()] = static_cast<char>(random());
    if (random() % 2) chunk[random() % chunk.size()] = static_cast<char>(random());
    auto block = Block::open(directory, [&](std::size_t) { return std::optional(chunk); });
    if (!block) continue;
    std::vector<Field> out, more;
    std::string json;
    for (std::size_t row = 0; row < block->count(); ++row)
      append_event_json(block->event(row, out, more), true, json);
    damaged += block->damaged();
  }
  EXPECT_GT(damaged, 100) << "a chunk that cannot be read is known to be damaged";
}

TEST(Block, EventsAsJsonNameTheTypesThatJsonLacks) {
  std::vector<Field> fields{{field_id("client.address"), Value::ip("192.0.2.7")},
                            {field_id("load"), Value::decimal(2)},
                            {field_id("n"), Value::integer(4)}};
  BlockEncoder encoder;
  std::vector<StoredEvent> events(1, StoredEvent{5, 6, {1, 1, 1, 0}, 1, 2, "the body", fields, {}});
  std::size_t taken = 0;
  const EncodedBlock encoded = encoder.encode(events, taken);
  auto block =
      Block::open(encoded.directory, [&](std::size_t i) { return std::optional(encoded.chunks[i]); });
  ASSERT_TRUE(block);
  for (const bool types : {false, true}) {
    std::vector<Field> out, more;
    std::string json;
    append_event_json(block->event(0, out, more), types, json);
    const auto event = nlohmann::json::parse(json);
    EXPECT_EQ(event["client.address"], "192.0.2.7");
    EXPECT_EQ(event.contains("dingle.types"), types);
    if (types) {
      EXPECT_EQ(event["dingle.types"]["client.address"], "ip");
    }
    EXPECT_FALSE(block->damaged());
  }
}

// A program that is killed while it makes an index leaves a journal beside it, which only who may write takes back.
TEST_F(StoreTest, AHalfMadeIndexIsReadAndWrittenAfterwards) {
  add(1, 0, 200, "first");
  commit("day-1");
  const std::string path = store->path_of("day-2"), made = folder + "/made";
  {
    Connection half(made, SQLITE_OPEN_READWRITE | SQLITE_OPEN_CREATE);
    half.run(
        "PRAGMA page_size=16384; PRAGMA cache_size=2; BEGIN; CREATE TABLE block(id INTEGER PRIMARY KEY, "
        "first BLOB);"
        "INSERT INTO block VALUES(1, zeroblob(500000)); INSERT INTO block VALUES(2, zeroblob(500000));");
    std::filesystem::copy_file(made, path);
    std::filesystem::copy_file(made + "-journal", path + "-journal");
  }
  std::filesystem::remove(made);
  EXPECT_EQ(find(""), Bodies{"first"});
  EXPECT_TRUE(store->held(sender)) << "nothing of it is there";
  add(2, 1, 200, "second");
  EXPECT_EQ(commit("day-2").reason, "");
  EXPECT_EQ(find(""), (Bodies{"second", "first"}));
}

// Earlier programs kept chunks in another table.
TEST_F(StoreTest, AnOlderIndexIsReadWrittenMergedAndErasedFrom) {
  std::string large;  // a block of several chunks
  for (int i = 0; i < 20'000; ++i) large += std::to_string(i * i % 7919);
  for (std::uint64_t n = 1; n <= 12; ++n)
    add(n, 0, n % 2 ? 200 : 500, n == 5 ? large : "old " + std::to_string(n)), commit();
  const Bodies before = find("");
  const std::string name = store->names().at(0), path = store->path_of(name);
  store.reset();
  const auto one = [](Connection& file, const char* asked) {
    Statement s(file.get(), asked);
    return s.step() ? s.integer(0) : -1;
  };
  {
    Connection file(path, SQLITE_OPEN_READWRITE);
    file.run(
        "CREATE TABLE chunk(block INTEGER NOT NULL, number INTEGER NOT NULL, data BLOB NOT NULL, PRIMARY "
        "KEY(block, number)) WITHOUT ROWID; INSERT INTO chunk SELECT id >> 16, id & 65535, data FROM "
        "stored_chunk; DROP TABLE stored_chunk; PRAGMA user_version=1");
    ASSERT_GT(one(file, "SELECT count(*) FROM chunk"), 12);
  }
  store = Store::at(folder);
  ASSERT_EQ(before.size(), 12u);
  EXPECT_EQ(find(""), before);
  EXPECT_EQ(find("status = 500").size(), 6u);
  for (std::uint64_t n = 13; n <= 15; ++n) add(n, 0, 500, "new " + std::to_string(n)), commit();
  EXPECT_EQ(find("status = 500").size(), 9u);
  EXPECT_EQ(find("").size(), 15u);
  EXPECT_EQ(
      *store->take_out(name, std::vector<IndexFile::Gone>{{kMorning, {sender.spool, sender.epoch, 2, 0}}}),
      1u);
  EXPECT_EQ(find("body = 'old 2'"), Bodies{});
  EXPECT_EQ(find("").size(), 14u);
  store->merge();
  EXPECT_LT(store->indexes().at(0).blocks, 5u);
  EXPECT_EQ(find("").size(), 14u);
  store.reset();
  Connection file(path, SQLITE_OPEN_READONLY);
  EXPECT_EQ(one(file, "SELECT count(*) FROM chunk WHERE block NOT IN (SELECT id FROM block)"), 0);
  EXPECT_EQ(one(file, "SELECT count(*) FROM stored_chunk WHERE id >> 16 NOT IN (SELECT id FROM block)"), 0);
  EXPECT_EQ(one(file, "PRAGMA user_version"), IndexFile::kVersion);
}

}  // namespace
}  // namespace dingle
