#include "spool/spool.h"

#include <filesystem>
#include <fstream>
#include <thread>

#include "spool/memory.h"
#include "tests/spool/spool_fixture.h"

namespace dingle {
namespace {

TEST_F(SpoolTest, DestinationsReadTheirShareInOrder) {
  open();
  const std::uint32_t a = spool->destination("a"), b = spool->destination("b");
  ASSERT_EQ(append("1", {a}), 0);
  ASSERT_EQ(append("2", {a, b}), 0);
  ASSERT_EQ(append("3", {b}), 0);
  EXPECT_EQ(read_all(a, 0), (std::vector<std::string>{"1", "2"}));
  EXPECT_EQ(read_all(b, 0), (std::vector<std::string>{"2", "3"}));
  EXPECT_EQ(spool->waiting(a).events, 2u);
}

TEST_F(SpoolTest, WhatWaitsIsTheSameAfterARestart) {
  open();
  const std::uint32_t a = spool->destination("a"), b = spool->destination("b");
  for (const char* e : {"one", "two, which is longer", "three"}) append(e, {a, b});
  ASSERT_TRUE(spool->wait_durable(1s));
  Spool::Read read;
  ASSERT_TRUE(spool->read(a, 0, 1min, read));
  spool->passed(a, read.number.number);
  const std::uint64_t after = read.number.number;
  for (int i = 0; i < 2; ++i) {
    EXPECT_TRUE(spool->has_more(a, after));
    EXPECT_FALSE(spool->has_more(a, after + 2));
    EXPECT_EQ(spool->waiting(a).events, 2u);
    EXPECT_EQ(spool->waiting(b).events, 3u);
    EXPECT_GT(spool->waiting(b).bytes, spool->waiting(a).bytes);
    EXPECT_LT(spool->waiting(b).bytes, 2 * spool->waiting(a).bytes);
    open();
  }
}

TEST_F(SpoolTest, CheckpointsCountersAndCursorsComeBack) {
  open();
  const std::uint32_t a = spool->destination("a");
  for (const char* e : {"1", "2", "3"}) append(e, {a});
  read_all(a, 0);
  spool->passed(a, last - 1, {{}, {{spool->counter_id("destination/1/set_aside"), 1}}});
  open();
  EXPECT_EQ(spool->destination("a"), a);
  EXPECT_EQ(*spool->state("checkpoint"), "3");
  EXPECT_EQ(spool->counter("lines"), 3);
  EXPECT_EQ(spool->counter("destination/1/set_aside"), 1);
  EXPECT_EQ(read_all(a, spool->cursor(a)), (std::vector<std::string>{"3"}));
  EXPECT_EQ(spool->waiting(a).appended, 3u);
  EXPECT_EQ(spool->waiting(a).events, 1u);
}

TEST_F(SpoolTest, ARecordThatCouldNotBeReadAgainIsNotWritten) {
  open();
  const std::uint32_t a = spool->destination("a");
  EXPECT_EQ(append(std::string(kLargestPayload + 1, 'x'), {a}), EMSGSIZE);
  EXPECT_EQ(append("1", {a}), 0);
  EXPECT_EQ(read_all(a, 0), (std::vector<std::string>{"1"}));
}

TEST_F(SpoolTest, OnAFullDiskNoTwoNamesShareAnId) {
  open();
  const std::uint32_t a = spool->destination("a");
  disk.room = 0;
  EXPECT_EQ(spool->destination("b"), 0u);
  EXPECT_EQ(spool->destination("a"), a);
  disk.room = UINT64_MAX;
  EXPECT_NE(spool->destination("b"), a);
}

TEST_F(SpoolTest, ADestinationThatComesBackIsAnotherOne) {
  open();
  const std::uint32_t a = spool->destination("a"), b = spool->destination("b");
  append("1", {a});
  spool->keep_destinations({a});
  EXPECT_EQ(rename("a", "b"), 0);  // to a name that once existed
  EXPECT_EQ(spool->destination("b"), a);
  EXPECT_EQ(spool->waiting(a).events, 1u);
  EXPECT_NE(spool->destination("a"), b);
}

TEST_F(SpoolTest, ANameWhoseEventsWaitIsNotTakenOver) {
  open();
  const std::uint32_t a = spool->destination("a"), b = spool->destination("b");
  append("1", {a, b});
  EXPECT_EQ(rename("a", "b"), EBUSY);
  EXPECT_EQ(spool->destination("b"), b);
  read_all(b, 0);
  spool->passed(b, last);
  EXPECT_EQ(rename("a", "b"), 0);
  EXPECT_EQ(spool->destination("b"), a);
  EXPECT_EQ(read_all(a, 0), (std::vector<std::string>{"1"}));
}

// All names of a configuration at once, or none of them.
TEST_F(SpoolTest, NamesAreGivenTogetherOrNotAtAll) {
  open();
  const std::uint32_t a = spool->destination("a"), b = spool->destination("b");
  append("1", {b});
  Spool::Naming naming;
  naming.destinations = {{"new", ""}, {"z", "a"}, {"b", "z"}};
  naming.pipelines = {"p"};
  naming.steps = {{0, "fold"}};
  naming.changes.state = {{"file/x", "1", false}};
  EXPECT_EQ(spool->name(naming), EBUSY);
  EXPECT_EQ(naming.waiting, "b");
  disk.room = 0;
  naming.destinations.pop_back();
  EXPECT_EQ(spool->name(naming), ENOSPC);
  disk.room = UINT64_MAX;
  EXPECT_EQ(spool->state_with_prefix("destination/").size(), 2u);
  EXPECT_EQ(spool->known(0, "p"), 0u);
  EXPECT_FALSE(spool->state("file/x"));
  ASSERT_EQ(spool->name(naming), 0);
  EXPECT_EQ(naming.destination_ids, (std::vector<std::uint32_t>{3, a}));
  EXPECT_EQ(spool->known(naming.pipeline_ids[0], "fold"), naming.step_ids[0]);
  EXPECT_EQ(spool->state("file/x"), "1");
}

// The kernel tells a failed fsync to one caller alone.
TEST_F(SpoolTest, NoFileIsSyncedTwiceAtOnce) {
  settings.segment_size = 4096;
  open();
  const std::uint32_t a = spool->destination("a");
  std::vector<std::thread> threads;
  for (int t = 0; t < 3; ++t)
    threads.emplace_back([&] {
      for (int i = 0; i < 300; ++i) {
        EXPECT_EQ(append(std::string(100, 'x'), {a}), 0);
        EXPECT_TRUE(spool->wait_durable(10s));
        spool->passed(a, spool->first_record());
      }
    });
  for (auto& t : threads) t.join();
  EXPECT_EQ(disk.most_syncs_at_once, 1);
}

TEST_F(SpoolTest, SegmentsAreRemovedOnceEveryDestinationPassed) {
  settings.segment_size = 2000;
  open();
  const std::uint32_t a = spool->destination("a"), b = spool->destination("b");
  for (int i = 0; i < 20; ++i) append(std::string(500, 'x'), {a, b});
  EXPECT_GT(spool->size().segments, 3u);
  read_all(a, 0);
  spool->passed(a, last);
  std::this_thread::sleep_for(400ms);
  EXPECT_GT(spool->size().segments, 3u) << "b has passed nothing yet";
  spool->passed(b, last);
  for (int i = 0; i < 1000 && spool->size().segments > 2; ++i) std::this_thread::sleep_for(20ms);
  EXPECT_EQ(spool->size().segments, 2u) << "the one before stays for its snapshot";
  open();
  EXPECT_EQ(spool->counter("lines"), 20) << "counters outlive the segments";
  EXPECT_EQ(spool->waiting(a).events, 0u);
}

// A segment's file is written again once it is done with; what it held before never comes back.
TEST_F(SpoolTest, FilesOfSegmentsAreReused) {
  settings.segment_size = 2000;
  open();
  const std::uint32_t a = spool->destination("a");
  int n = 0;
  auto cycle = [&](int events) {
    for (int i = 0; i < events; ++i) append("event " + std::to_string(n++) + std::string(300, 'x'), {a});
    ASSERT_TRUE(spool->wait_durable(10s));  // so that all of them are read
    read_all(a, 0);
    spool->passed(a, last);
    for (int i = 0; i < 1000 && spool->size().segments > 2; ++i) std::this_thread::sleep_for(10ms);
    EXPECT_EQ(spool->size().segments, 2u) << "the one before stays for its snapshot";
  };
  for (int i = 0; i < 5; ++i) cycle(10);
  EXPECT_GE(disk.reused, 4);
  EXPECT_LE(disk.files.size(), 5u) << "the segment, the one before, a spare, mark and reserve";
  append("new 1", {a});
  append("new 2", {a});
  open();
  EXPECT_EQ(spool->recovery().damaged_records, 0u);
  EXPECT_EQ(spool->recovery().cut_bytes, 0u) << "what an earlier segment left is no torn write";
  EXPECT_EQ(read_all(a, spool->cursor(a)), (std::vector<std::string>{"new 1", "new 2"}));
  EXPECT_EQ(spool->counter("lines"), n + 2);
}

TEST_F(SpoolTest, FullDiskRefusesAndLosesNothing) {
  open();
  const std::uint32_t a = spool->destination("a");
  append("1", {a});
  disk.room = 10;
  EXPECT_EQ(append("2", {a}), ENOSPC);
  EXPECT_EQ(spool->counter("lines"), 1);
  disk.room = UINT64_MAX;
  EXPECT_EQ(append("2", {a}), 0);
  EXPECT_EQ(read_all(a, 0), (std::vector<std::string>{"1", "2"}));
}

TEST_F(SpoolTest, AfterAFailedSyncTheRecordsAreWrittenToANewSegment) {
  open();
  const std::uint32_t a = spool->destination("a");
  append("1", {a});
  ASSERT_TRUE(spool->wait_durable(1s));
  {
    std::lock_guard lock(disk.mutex);
    disk.failing_syncs = 1;
  }
  append("2", {a});
  append("3", {a});
  EXPECT_EQ(read_all(a, 0), (std::vector<std::string>{"1", "2", "3"}));
  EXPECT_EQ(spool->size().failed_syncs, 1u);
  spool.reset();
  disk.lose_power(1);
  open();
  EXPECT_EQ(read_all(a, 0), (std::vector<std::string>{"1", "2", "3"}));
  EXPECT_EQ(spool->recovery().damaged_records, 0u);
}

// The snapshot of the new segment holds what was counted and not noted yet: a later note must not bring it again.
TEST_F(SpoolTest, WhatWasCountedIsCountedOnceOverAFailedSync) {
  settings.sync = SpoolSync::interval;  // notes are not written meanwhile
  settings.interval = 50ms;
  open();
  const std::uint32_t a = spool->destination("a");
  append("1", {a});
  ASSERT_TRUE(spool->wait_durable(5s));
  read_all(a, 0);
  {
    std::lock_guard lock(disk.mutex);
    disk.failing_syncs = 1;
  }
  append("2", {a});
  const CounterId answered = spool->counter_id("answered");
  ASSERT_EQ(spool->note({}), 0);  // its name is known
  spool->passed(a, last, {{}, {{answered, 7}}});
  ASSERT_TRUE(spool->wait_durable(5s));
  ASSERT_EQ(spool->size().failed_syncs, 1u);
  ASSERT_EQ(spool->note({}), 0);
  EXPECT_EQ(spool->counter("answered"), 7);
  open();
  EXPECT_EQ(spool->counter("answered"), 7);
}

TEST_F(SpoolTest, WithAnIntervalRecordsAreShownOnceTheyAreSyncedTogether) {
  settings.sync = SpoolSync::interval;
  settings.interval = 800ms;
  open();
  const std::uint32_t a = spool->destination("a");
  append("0", {a});
  ASSERT_TRUE(spool->wait_durable(2s));  // an interval begins
  EXPECT_EQ(read_all(a, 0).size(), 1u);
  const std::uint64_t first = last;
  const auto begin = std::chrono::steady_clock::now();
  for (int i = 1; i < 10; ++i) append(std::to_string(i), {a});
  Spool::Read read;
  EXPECT_FALSE(spool->read(a, first, 0ms, read)) << "not synced, not shown";
  FaultyDisk copy;
  copy.copy(disk);
  copy.lose_power(7);
  ASSERT_TRUE(spool->read(a, first, 1min, read));
  EXPECT_GE(std::chrono::steady_clock::now() - begin, 500ms);
  EXPECT_EQ(read.batch.events, "1");
  EXPECT_EQ(read_all(a, first).size(), 9u) << "all by one sync";
  auto opened = Spool::open(copy, settings);
  ASSERT_TRUE(opened);
  EXPECT_GE((*opened)->counter("lines"), 1) << "what was synced before is there";
}

TEST_F(SpoolTest, LeftToTheSystemRecordsAreShownAtOnce) {
  settings.sync = SpoolSync::os;
  open();
  const std::uint32_t a = spool->destination("a");
  {
    std::lock_guard lock(disk.mutex);
    disk.failing_syncs = 1'000;
  }
  append("1", {a});
  EXPECT_EQ(read_all(a, 0), (std::vector<std::string>{"1"}));
  EXPECT_EQ(spool->size().failed_syncs, 0u);
}

TEST_F(SpoolTest, TheOldestAreGivenUpAndStayGivenUp) {
  open();
  const std::uint32_t a = spool->destination("a"), b = spool->destination("b");
  for (const char* e : {"1", "2", "3", "4", "5"}) append(e, {a, b});
  Spool::Read in_hand;
  ASSERT_TRUE(spool->read(a, 0, 1min, in_hand));
  const std::uint64_t each = spool->waiting(a).bytes / 5;
  EXPECT_EQ(spool->shed_oldest(a, 3 * each, 0, "shed"), 2u);
  EXPECT_EQ(spool->waiting(a).events, 3u);
  EXPECT_EQ(spool->counter("shed"), 2);
  EXPECT_EQ(read_all(a, in_hand.number.number), (std::vector<std::string>{"4", "5"}));
  EXPECT_EQ(read_all(b, 0).size(), 5u) << "others lose nothing";
  spool->wait_durable(1s);
  open();
  EXPECT_EQ(read_all(a, spool->cursor(a)), (std::vector<std::string>{"1", "4", "5"}));
  EXPECT_EQ(spool->waiting(a).events, 3u);
  spool->passed(a, last);
  EXPECT_EQ(spool->waiting(a).events, 0u);
  EXPECT_EQ(spool->waiting(a).bytes, 0u);
  EXPECT_TRUE(spool->state_with_prefix("shed/").empty());
  EXPECT_EQ(spool->waiting(b).events, 5u);
  open();
  EXPECT_TRUE(spool->state_with_prefix("shed/").empty()) << "forgotten for good";
}

TEST_F(SpoolTest, SheddingTwiceWhileReadingGoesOn) {
  open();
  const std::uint32_t a = spool->destination("a");
  for (int i = 0; i < 10; ++i) append(std::to_string(i), {a});
  Spool::Read read;
  ASSERT_TRUE(spool->read(a, 0, 1min, read));
  EXPECT_EQ(spool->shed_oldest(a, 0, 0, "shed"), 9u);
  for (int i = 10; i < 13; ++i) append(std::to_string(i), {a});
  Spool::Read next;
  ASSERT_TRUE(spool->read(a, read.number.number, 1min, next));
  EXPECT_EQ(next.batch.events, "10");
  EXPECT_EQ(spool->shed_oldest(a, 0, 0, "shed"), 2u);
  EXPECT_EQ(spool->waiting(a).events, 2u) << "those in hand";
  spool->wait_durable(1s);
  open();
  EXPECT_EQ(read_all(a, spool->cursor(a)), (std::vector<std::string>{"0", "10"}));
}

TEST_F(SpoolTest, OldOnesAreGivenUpByAgeAlsoAfterARestart) {
  struct : Clock {
    std::atomic<std::int64_t> now{1000};
    std::int64_t wall() const override { return now; }
    std::int64_t steady() const override { return now; }
  } clock;
  settings.clock = &clock;
  open();
  const std::uint32_t a = spool->destination("a");
  for (const char* e : {"1", "2"}) append(e, {a}), clock.now += 500;
  for (const bool restarted : {false, true}) {
    if (restarted) open();
    EXPECT_EQ(spool->waiting(a).oldest, 1000);
    Spool::Read read;
    ASSERT_TRUE(spool->read(a, 0, 1min, read));
    EXPECT_EQ(read.appended_at, 1000);
  }
  open();  // nothing is in hand
  EXPECT_EQ(spool->shed_oldest(a, UINT64_MAX, 1000, "shed"), 0u);
  EXPECT_EQ(spool->shed_oldest(a, UINT64_MAX, 1001, "shed"), 1u);
  EXPECT_EQ(spool->waiting(a).oldest, 1500);
  EXPECT_EQ(spool->shed_oldest(a, UINT64_MAX, INT64_MAX, "shed"), 1u);
  EXPECT_EQ(spool->waiting(a).events, 0u);
}

// Much state in a small segment leaves room for records.
TEST_F(SpoolTest, ASegmentEndsByWhatStandsBehindItsSnapshot) {
  settings.segment_size = 4000;
  open();
  ASSERT_EQ(spool->note({{{"large", std::string(20'000, 'x'), false}}, {}}), 0);
  const std::uint32_t a = spool->destination("a");
  append("the one that ends it", {a});
  const std::uint64_t before = spool->size().segments;
  for (int i = 0; i < 10; ++i) append(std::to_string(i), {a});
  EXPECT_EQ(spool->size().segments, before);
}

TEST_F(SpoolTest, CompressedEventsComeBack) {
  open();
  const std::uint32_t a = spool->destination("a");
  const std::string events(10'000, 'x');
  Spool::Append append{{}, {{a, 1}}, compress_events(events), true};
  ASSERT_EQ(spool->append(append), 0);
  EXPECT_LT(spool->waiting(a).bytes, 1000u);
  EXPECT_EQ(read_all(a, 0), (std::vector<std::string>{events}));
  EXPECT_EQ(decompress_events("no frame"), "");
}

TEST_F(SpoolTest, InMemoryWhatAllHavePassedIsTheBeginningOfTheNext) {
  auto memory = make_memory_disk();
  settings.track_acknowledged = true;
  settings.sync = SpoolSync::os;
  auto opened = Spool::open(*memory, settings);
  ASSERT_TRUE(opened);
  spool = std::move(*opened);
  const std::uint32_t a = spool->destination("a"), b = spool->destination("b");
  for (const char* e : {"1", "2", "3"}) append(e, {a, b});
  read_all(a, 0);
  spool->passed(a, last);
  spool->passed(b, last - 1);
  const Snapshot s = spool->acknowledged();
  EXPECT_EQ(s.state.value("checkpoint"), "2");
  EXPECT_EQ(s.counter("lines"), 2);
  const std::string path = testing::TempDir() + "/snapshot-" + std::to_string(::getpid());
  ASSERT_EQ(save_snapshot(path, s), 0);
  settings.begin_with = *load_snapshot(path);
  const auto first = spool->identity().spool_id;
  spool.reset();
  opened = Spool::open(*(memory = make_memory_disk()), settings);
  ASSERT_TRUE(opened);
  spool = std::move(*opened);
  EXPECT_NE(spool->identity().spool_id, first);
  EXPECT_EQ(spool->destination("b"), b);
  EXPECT_EQ(*spool->state("checkpoint"), "2");
  EXPECT_EQ(spool->waiting(b).appended, 2u);
  EXPECT_EQ(spool->waiting(b).events, 0u);
  append("3", {a, b});
  EXPECT_EQ(read_all(b, spool->cursor(b)), (std::vector<std::string>{"3"}));
  std::ofstream(path, std::ios::app) << "x";
  EXPECT_TRUE(load_snapshot(path)) << "what is behind it does not matter";
  std::ofstream(path) << "x";
  EXPECT_FALSE(load_snapshot(path));
  std::filesystem::remove(path);
  std::filesystem::create_directory(path);
  EXPECT_NE(save_snapshot(path, s), 0) << "a folder has the name";
  std::filesystem::remove_all(path);
  std::filesystem::remove(path + ".new");
  spool.reset();
}

}  // namespace
}  // namespace dingle
