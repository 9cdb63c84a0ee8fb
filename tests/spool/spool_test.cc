#include "spool/spool.h"

#include <gtest/gtest.h>

#include <filesystem>
#include <fstream>
#include <thread>

#include "spool/memory.h"
#include "tests/spool/faulty_disk.h"

namespace dingle {
namespace {

using namespace std::chrono_literals;

class SpoolTest : public testing::Test {
 protected:
  FaultyDisk disk;
  SpoolSettings settings{.folder = "spool"};
  std::unique_ptr<Spool> spool;

  void open() {
    spool.reset();
    auto opened = Spool::open(disk, settings);
    ASSERT_TRUE(opened) << opened.problem().message;
    spool = std::move(*opened);
  }
  // One event for each of the destinations, with a checkpoint and a counter.
  int append(const std::string& events, std::vector<std::uint32_t> destinations) {
    Spool::Append a;
    a.events = events;
    a.changes.state.push_back({"checkpoint", events, false});
    a.changes.counters.push_back({"lines", 1});
    for (std::uint32_t d : destinations) a.destinations.emplace_back(d, 1);
    return spool->append(a);
  }
  std::vector<std::string> read_all(std::uint32_t destination, std::uint64_t after) {
    std::vector<std::string> all;
    Spool::Read read;
    while (spool->read(destination, after, 200ms, read)) {
      all.emplace_back(read.batch.events);
      after = read.number.number;
      last = after;
    }
    return all;
  }
  std::uint64_t last = 0;
};

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

TEST_F(SpoolTest, CheckpointsCountersAndCursorsComeBack) {
  open();
  const std::uint32_t a = spool->destination("a");
  for (const char* e : {"1", "2", "3"}) append(e, {a});
  read_all(a, 0);
  spool->passed(a, last - 1, {{}, {{"destination/1/set_aside", 1}}});
  open();
  EXPECT_EQ(spool->destination("a"), a);
  EXPECT_EQ(*spool->state("checkpoint"), "3");
  EXPECT_EQ(spool->counter("lines"), 3);
  EXPECT_EQ(spool->counter("destination/1/set_aside"), 1);
  EXPECT_EQ(read_all(a, spool->cursor(a)), (std::vector<std::string>{"3"}));
  EXPECT_EQ(spool->waiting(a).appended, 3u);
  EXPECT_EQ(spool->waiting(a).events, 1u);
}

TEST_F(SpoolTest, EveryOpenRaisesTheEpochAndDrawsANonce) {
  open();
  const auto first = spool->identity();
  open();
  EXPECT_EQ(spool->identity().spool_id, first.spool_id);
  EXPECT_EQ(spool->identity().epoch, first.epoch + 1);
  EXPECT_NE(spool->identity().nonce, first.nonce);
}

TEST_F(SpoolTest, TornTailIsCutAndNumbersAreNotReused) {
  open();
  const std::uint32_t a = spool->destination("a");
  append("1", {a});
  append("2", {a});
  ASSERT_TRUE(spool->wait_durable(1s));
  read_all(a, 0);
  const std::uint64_t before = last;
  spool.reset();
  {
    auto& file = *disk.files.rbegin()->second;
    file.now.resize(file.now.size() - 1);
    file.durable = file.now;
  }
  open();
  append("3", {a});
  read_all(a, 0);
  EXPECT_GT(last, before);
}

// A bit turned round anywhere in a segment's header costs nothing, and is told.
TEST_F(SpoolTest, ADamagedHeaderCostsNoRecord) {
  for (std::size_t at = 0; at < kSegmentHeaderSize; at += 3)
    for (const bool newest : {true, false}) {
      disk.files.clear(), disk.durable_names.clear();
      open();
      const std::uint32_t a = spool->destination("a");
      for (const char* e : {"1", "2", "3"}) append(e, {a});
      const auto before = spool->identity();
      if (!newest) open();
      spool.reset();
      std::size_t turned = 0;
      for (auto& [path, inode] : disk.files)
        if (segment_number(path.substr(6)) == 1)
          inode->now[at] = static_cast<char>(inode->now[at] ^ 1 << at % 8), ++turned;
      ASSERT_EQ(turned, 1u);
      open();
      EXPECT_EQ(read_all(a, 0), (std::vector<std::string>{"1", "2", "3"})) << at;
      EXPECT_EQ(*spool->state("checkpoint"), "3");
      EXPECT_EQ(spool->recovery().damaged_headers, 1u);
      EXPECT_NE(spool->recovery().told(), "");
      EXPECT_EQ(spool->identity().spool_id, before.spool_id);
      EXPECT_EQ(spool->identity().epoch, before.epoch + (newest ? 1u : 2u));
    }
}

// One that is overwritten whole: the mark and the segments around it say whose it was.
TEST_F(SpoolTest, ADestroyedHeaderKeepsItsEpoch) {
  for (const std::size_t opens : {1u, 2u, 3u})
    for (std::uint64_t damaged = 1; damaged <= opens; ++damaged) {
      disk.files.clear(), disk.durable_names.clear();
      std::vector<std::string> all;
      std::uint32_t a = 0;
      for (std::size_t i = 0; i < opens; ++i) {
        open();
        a = spool->destination("a");
        all.push_back(std::to_string(i));
        append(all.back(), {a});
      }
      const auto identity = spool->identity();
      spool.reset();
      for (auto& [path, inode] : disk.files)
        if (segment_number(path.substr(6)) == damaged)
          inode->now.replace(0, kSegmentHeaderSize, kSegmentHeaderSize, '\0');
      open();
      EXPECT_EQ(read_all(a, 0), all) << opens << damaged;
      EXPECT_EQ(spool->identity().spool_id, identity.spool_id);
      EXPECT_EQ(spool->identity().epoch, identity.epoch + 1);
      EXPECT_EQ(spool->recovery().guessed_epoch, damaged != opens);
      Spool::Read read;
      std::uint64_t after = 0;
      for (std::uint64_t epoch = 1; epoch <= opens; ++epoch, after = read.number.number) {
        ASSERT_TRUE(spool->read(a, after, 200ms, read));
        EXPECT_EQ(read.number.epoch, epoch) << opens << damaged;
      }
    }
}

TEST_F(SpoolTest, ASegmentInWhichNothingCanBeReadIsMovedAsideNotRemoved) {
  open();
  const std::uint32_t a = spool->destination("a");
  append("1", {a});
  open();
  append("2", {a});
  spool.reset();
  const std::string path = "spool/" + segment_name(1);
  const std::string noise(disk.files[path]->now.size(), 'x');
  disk.files[path]->now = noise;
  open();
  EXPECT_EQ(read_all(a, 0), (std::vector<std::string>{"2"}));
  ASSERT_EQ(spool->recovery().moved_aside, (std::vector<std::string>{path + ".damaged"}));
  EXPECT_EQ(disk.files[path + ".damaged"]->now, noise);
}

TEST_F(SpoolTest, WhatIsMissingAtTheEndIsToldIfItWasClosed) {
  for (const bool whole_segment : {true, false}) {
    disk.files.clear(), disk.durable_names.clear();
    open();
    const std::uint32_t a = spool->destination("a");
    append("1", {a});
    open();
    append("2", {a});
    append("3", {a});
    spool.reset();
    const std::string path = "spool/" + segment_name(2);
    std::string& bytes = disk.files[path]->now;
    const std::uint64_t epoch = 2;
    if (whole_segment)
      disk.files.erase(path);
    else
      bytes.resize(bytes.rfind(kRecordMagic));
    open();
    EXPECT_GT(spool->recovery().missing_records, 0u) << whole_segment;
    EXPECT_NE(spool->recovery().told().find("missing"), std::string::npos);
    EXPECT_GT(spool->identity().epoch, epoch);
    const std::uint64_t missing = spool->recovery().missing_records;
    append("4", {a});
    read_all(a, 0);
    EXPECT_GT(last, 3 + missing);  // no number is used again
    open();
    EXPECT_EQ(spool->recovery().missing_records, 0u);
  }
}

// With `sync: os` nothing is known to be on disk: what stands behind damage is cut off, and that is told.
TEST_F(SpoolTest, WhatIsCutOffBehindDamageIsTold) {
  settings.sync = SpoolSync::os;
  open();
  const std::uint32_t a = spool->destination("a");
  for (const char* e : {"first", "second", "third"}) append(e, {a});
  spool.reset();
  std::string& bytes = disk.files["spool/" + segment_name(1)]->now;
  bytes[bytes.find("second") + 1] ^= 1;
  open();
  EXPECT_GE(spool->recovery().cut_records, 1u);
  EXPECT_NE(spool->recovery().told().find("cut off"), std::string::npos);
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
  EXPECT_EQ(spool->pipeline("p"), 0u);
  EXPECT_EQ(spool->destination("a"), a);
  disk.room = UINT64_MAX;
  EXPECT_NE(spool->destination("b"), a);
}

TEST_F(SpoolTest, OpensOnAFullDiskSoThatItCanDrain) {
  open();
  const std::uint32_t a = spool->destination("a");
  for (int i = 0; i < 3; ++i) append(std::to_string(i), {a});
  for (int i = 0; i < 3; ++i) {  // more than once
    disk.room = i == 0 ? 0 : disk.room;
    disk.removed_is_room = true;
    open();
    EXPECT_EQ(read_all(a, spool->cursor(a)).size(), 3u);
  }
}

TEST_F(SpoolTest, ADestinationThatComesBackIsAnotherOne) {
  open();
  const std::uint32_t a = spool->destination("a"), b = spool->destination("b");
  append("1", {a});
  spool->keep_destinations({a});
  EXPECT_EQ(spool->rename_destination("a", "b"), 0);  // to a name that once existed
  EXPECT_EQ(spool->destination("b"), a);
  EXPECT_EQ(spool->waiting(a).events, 1u);
  EXPECT_NE(spool->destination("a"), b);
}
TEST_F(SpoolTest, ANameWhoseEventsWaitIsNotTakenOver) {
  open();
  const std::uint32_t a = spool->destination("a"), b = spool->destination("b");
  append("1", {a, b});
  EXPECT_EQ(spool->rename_destination("a", "b"), EBUSY);
  EXPECT_EQ(spool->destination("b"), b);
  read_all(b, 0);
  spool->passed(b, last);
  EXPECT_EQ(spool->rename_destination("a", "b"), 0);
  EXPECT_EQ(spool->destination("b"), a);
  EXPECT_EQ(read_all(a, 0), (std::vector<std::string>{"1"}));
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

TEST_F(SpoolTest, DamageBelowTheDurableMarkIsSkippedAndCounted) {
  open();
  const std::uint32_t a = spool->destination("a");
  for (const char* e : {"first", "second", "third"}) {
    append(e, {a});
    ASSERT_TRUE(spool->wait_durable(1s));
  }
  spool.reset();
  for (auto& [path, inode] : disk.files)
    if (std::size_t at = inode->now.rfind("second"); at != std::string::npos) inode->now[at] ^= 1;
  open();
  EXPECT_EQ(spool->recovery().damaged_records, 1u);
  EXPECT_EQ(read_all(a, 0), (std::vector<std::string>{"first", "third"}));
  const auto w = spool->waiting(a);
  EXPECT_EQ(w.events, 2u);
}

TEST(SegmentHeader, AnyOneBitOfItIsPutRight) {
  const SegmentHeader h{11, 2, 3, 7, 4096};
  const std::string whole = encode_segment_header(h);
  for (std::size_t bit = 0; bit < 8 * whole.size(); ++bit) {
    std::string damaged = whole;
    damaged[bit / 8] = static_cast<char>(damaged[bit / 8] ^ (1 << bit % 8));
    SegmentHeader found;
    ASSERT_TRUE(repair_segment_header(damaged, 7, found)) << bit;
    EXPECT_EQ(encode_segment_header(found), whole) << bit;
    ASSERT_FALSE(repair_segment_header(damaged, 8, found)) << bit;
    damaged[(bit / 8 + 9) % whole.size()] ^= 4;
    ASSERT_FALSE(repair_segment_header(damaged, 7, found)) << "two bits";
  }
}

TEST_F(SpoolTest, WhatWaitedInADamagedRecordIsCountedForItsDestination) {
  open();
  const std::uint32_t a = spool->destination("a"), b = spool->destination("b");
  for (const char* e : {"first", "second", "third"}) append(e, {a, b});
  ASSERT_TRUE(spool->wait_durable(1s));
  read_all(b, 0);
  spool->passed(b, last, {});
  open();  // its snapshot knows how many wait
  spool.reset();
  for (auto& [path, inode] : disk.files)
    if (std::size_t at = inode->now.rfind("second"); at != std::string::npos) inode->now[at] ^= 1;
  for (int i = 0; i < 2; ++i) {  // it is counted once
    open();
    EXPECT_EQ(spool->counter(counter_of_destination(a, "damaged")), 1);
    EXPECT_EQ(spool->counter(counter_of_destination(b, "damaged")), 0);
    EXPECT_EQ(spool->waiting(a).events, 2u);
    EXPECT_EQ(spool->recovery().damaged_events, i == 0 ? 1u : 0u);
  }
  EXPECT_EQ(read_all(a, 0), (std::vector<std::string>{"first", "third"}));
}

TEST_F(SpoolTest, DamageWhileRunningIsPassedOverAndCounted) {
  open();
  const std::uint32_t a = spool->destination("a");
  for (const char* e : {"first", "second", "third"}) append(e, {a});
  ASSERT_TRUE(spool->wait_durable(1s));
  {
    std::lock_guard lock(disk.mutex);
    for (auto& [path, inode] : disk.files)
      if (std::size_t at = inode->now.rfind("second"); at != std::string::npos) inode->now[at] ^= 1;
  }
  Spool::Read read;
  ASSERT_TRUE(spool->read(a, 0, 1s, read));
  ASSERT_TRUE(spool->read(a, read.number.number, 1s, read));
  EXPECT_EQ(read.batch.events, "third");
  EXPECT_EQ(read.unreadable_events, 1u);
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
  for (int i = 0; i < 1000 && spool->size().segments > 1; ++i) std::this_thread::sleep_for(20ms);
  EXPECT_EQ(spool->size().segments, 1u);
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
    for (int i = 0; i < 1000 && spool->size().segments > 1; ++i) std::this_thread::sleep_for(10ms);
    EXPECT_EQ(spool->size().segments, 1u);
  };
  for (int i = 0; i < 5; ++i) cycle(10);
  EXPECT_GE(disk.reused, 4);
  EXPECT_LE(disk.files.size(), 4u) << "the segment and a spare, mark and reserve";
  append("new 1", {a});
  append("new 2", {a});
  open();
  EXPECT_EQ(spool->recovery().damaged_records, 0u);
  EXPECT_EQ(spool->recovery().cut_bytes, 0u) << "what an earlier segment left is no torn write";
  EXPECT_EQ(read_all(a, spool->cursor(a)), (std::vector<std::string>{"new 1", "new 2"}));
  EXPECT_EQ(spool->counter("lines"), n + 2);
}

TEST_F(SpoolTest, AnotherVersionOfTheFormatIsRefusedAndKept) {
  open();
  append("1", {spool->destination("a")});
  spool.reset();
  auto& inode = disk.files.at("spool/" + segment_name(1));
  inode->now[7] = inode->durable[7] = '1';
  const std::string before = inode->now;
  auto opened = Spool::open(disk, settings);
  ASSERT_FALSE(opened);
  EXPECT_NE(opened.problem().message.find("another version"), std::string::npos) << opened.problem().message;
  EXPECT_EQ(disk.files.at("spool/" + segment_name(1))->now, before);
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
  ASSERT_TRUE(spool->read(a, first, 2s, read));
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

// What a destination has seen survives a power failure, and nothing beyond the cut is invented.
TEST_F(SpoolTest, PowerFailuresLoseNothingThatWasShown) {
  int reused = 0;
  for (std::uint64_t seed = 1; seed <= 60; ++seed) {
    disk.files.clear();
    disk.durable_names.clear();
    spool.reset();
    settings.segment_size = 600;
    open();
    const std::uint32_t a = spool->destination("a");
    Spool::Read read;
    std::uint64_t after = 0;
    const int earlier = seed % 2 ? 12 : 0;  // then files of earlier segments are written again
    if (earlier) {
      for (int i = 0; i < earlier; ++i) append(std::to_string(i - earlier), {a});
      while (spool->read(a, after, 50ms, read)) after = read.number.number;
      spool->passed(a, after);
      for (int i = 0; i < 100 && spool->size().segments > 1; ++i) std::this_thread::sleep_for(10ms);
    }
    for (int i = 0; i < 8; ++i) append(std::to_string(i), {a});
    std::size_t shown = 0;
    while (shown < 4 && spool->read(a, after, 1s, read)) after = read.number.number, ++shown;
    for (int i = 8; i < 12; ++i) append(std::to_string(i), {a});
    FaultyDisk copy;  // the moment of the failure: the running spool knows nothing of it
    copy.copy(disk);
    copy.lose_power(seed);
    auto opened = Spool::open(copy, settings);
    ASSERT_TRUE(opened) << seed;
    std::vector<std::string> all;
    after = 0;
    while ((*opened)->read(a, after, 20ms, read))
      all.emplace_back(read.batch.events), after = read.number.number;
    std::erase_if(all, [](const std::string& e) { return e[0] == '-'; });
    ASSERT_GE(all.size(), shown) << "seed " << seed;
    for (std::size_t i = 0; i < all.size(); ++i) ASSERT_EQ(all[i], std::to_string(i)) << "seed " << seed;
    ASSERT_EQ((*opened)->state("checkpoint").value_or("none"), !all.empty() ? all.back()
                                                               : earlier    ? "-1"
                                                                            : "none")
        << "seed " << seed << ": a checkpoint covers just what is there";
    ASSERT_EQ((*opened)->counter("lines"), static_cast<std::int64_t>(all.size()) + earlier)
        << "seed " << seed;
    reused += disk.reused;
    disk.reused = 0;
  }
  EXPECT_GT(reused, 20);
}

TEST(SpoolOnDisk, SecondProcessIsRefused) {
  const std::string folder = testing::TempDir() + "/spool-" + std::to_string(::getpid());
  std::filesystem::remove_all(folder);
  auto first = Spool::open(system_disk(), {.folder = folder});
  ASSERT_TRUE(first);
  auto second = Spool::open(system_disk(), {.folder = folder});
  ASSERT_FALSE(second);
  EXPECT_NE(second.problem().message.find("in use"), std::string::npos);
  std::filesystem::remove_all(folder);
}

TEST(Format, RandomBytesAreNoRecords) {
  std::mt19937_64 random(3);
  for (int i = 0; i < 2000; ++i) {
    std::string bytes(random() % 200, '\0');
    for (char& c : bytes) c = static_cast<char>(random());
    EXPECT_FALSE(record_is_intact(bytes, i % 3));
    BatchPayload batch;
    Changes changes;
    Cursors cursors;
    Snapshot snapshot;
    decode_batch(bytes, batch);
    decode_note(bytes, changes, cursors);
    decode_snapshot(bytes, snapshot);
  }
}

TEST_F(SpoolTest, TheOldestAreGivenUpAndStayGivenUp) {
  open();
  const std::uint32_t a = spool->destination("a"), b = spool->destination("b");
  for (const char* e : {"1", "2", "3", "4", "5"}) append(e, {a, b});
  Spool::Read in_hand;
  ASSERT_TRUE(spool->read(a, 0, 1s, in_hand));
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
}

TEST_F(SpoolTest, SheddingTwiceWhileReadingGoesOn) {
  open();
  const std::uint32_t a = spool->destination("a");
  for (int i = 0; i < 10; ++i) append(std::to_string(i), {a});
  Spool::Read read;
  ASSERT_TRUE(spool->read(a, 0, 1s, read));
  EXPECT_EQ(spool->shed_oldest(a, 0, 0, "shed"), 9u);
  for (int i = 10; i < 13; ++i) append(std::to_string(i), {a});
  Spool::Read next;
  ASSERT_TRUE(spool->read(a, read.number.number, 1s, next));
  EXPECT_EQ(next.batch.events, "10");
  EXPECT_EQ(spool->shed_oldest(a, 0, 0, "shed"), 2u);
  EXPECT_EQ(spool->waiting(a).events, 2u) << "those in hand";
  spool->wait_durable(1s);
  open();
  EXPECT_EQ(read_all(a, spool->cursor(a)), (std::vector<std::string>{"0", "10"}));
}

TEST_F(SpoolTest, OldOnesAreGivenUpByAge) {
  open();
  const std::uint32_t a = spool->destination("a");
  append("1", {a});
  EXPECT_EQ(spool->shed_oldest(a, UINT64_MAX, 1, "shed"), 0u);
  EXPECT_EQ(spool->shed_oldest(a, UINT64_MAX, INT64_MAX, "shed"), 1u);
  EXPECT_EQ(spool->waiting(a).events, 0u);
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
  EXPECT_EQ(s.state.at("checkpoint"), "2");
  EXPECT_EQ(s.counters.at("lines"), 2);
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
  spool.reset();
}

}  // namespace
}  // namespace dingle
