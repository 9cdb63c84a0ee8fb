// What opening a spool makes of damage, of crashes and of power failures.
#include <xxhash.h>

#include <filesystem>
#include <thread>

#include "core/bytes.h"
#include "tests/spool/spool_fixture.h"

namespace dingle {
namespace {

using RecoveryTest = SpoolTest;

TEST_F(RecoveryTest, EveryOpenRaisesTheEpochAndDrawsANonce) {
  open();
  const auto first = spool->identity();
  open();
  EXPECT_EQ(spool->identity().spool_id, first.spool_id);
  EXPECT_EQ(spool->identity().epoch, first.epoch + 1);
  EXPECT_NE(spool->identity().nonce, first.nonce);
}

TEST_F(RecoveryTest, TornTailIsCutAndNumbersAreNotReused) {
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
TEST_F(RecoveryTest, ADamagedHeaderCostsNoRecord) {
  for (std::size_t at = 0; at < kSegmentHeaderSize; at += 3)
    for (const bool newest : {true, false}) {
      forget();
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
TEST_F(RecoveryTest, ADestroyedHeaderKeepsItsEpoch) {
  for (const std::size_t opens : {1u, 2u, 3u})
    for (std::uint64_t damaged = 1; damaged <= opens; ++damaged) {
      forget();
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
        ASSERT_TRUE(spool->read(a, after, 1min, read));
        EXPECT_EQ(read.number.epoch, epoch) << opens << damaged;
      }
    }
}

// Between two of one epoch there is nothing to guess.
TEST_F(RecoveryTest, ADestroyedHeaderBetweenTwoOfOneEpochIsOfThatEpoch) {
  settings.segment_size = 1;
  open();
  open();
  const std::uint32_t a = spool->destination("a");
  for (const char* e : {"1", "2", "3", "4"}) append(e, {a});
  const std::uint64_t epoch = spool->identity().epoch;
  ASSERT_GE(spool->size().segments, 4u);
  spool.reset();
  disk.files.at("spool/" + segment_name(4))->now.replace(0, kSegmentHeaderSize, kSegmentHeaderSize, '\0');
  open();
  EXPECT_EQ(spool->recovery().damaged_headers, 1u);
  EXPECT_FALSE(spool->recovery().guessed_epoch);
  Spool::Read read;
  for (std::uint64_t n = 0, after = 0; n < 4; ++n, after = read.number.number) {
    ASSERT_TRUE(spool->read(a, after, 1min, read));
    EXPECT_EQ(read.batch.events, std::to_string(n + 1));
    EXPECT_EQ(read.number.epoch, epoch);
  }
}

TEST_F(RecoveryTest, ASegmentInWhichNothingCanBeReadIsMovedAsideNotRemoved) {
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

TEST_F(RecoveryTest, WhatIsMissingAtTheEndIsToldIfItWasClosed) {
  for (const bool whole_segment : {true, false}) {
    forget();
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
TEST_F(RecoveryTest, WhatIsCutOffBehindDamageIsTold) {
  settings.sync = SpoolSync::os;
  open();
  const std::uint32_t a = spool->destination("a");
  for (const char* e : {"first", "second", "third"}) append(e, {a});
  spool.reset();
  std::string& bytes = disk.files["spool/" + segment_name(1)]->now;
  bytes[bytes.find("second") + 1] ^= 1;
  open();
  EXPECT_EQ(spool->recovery().cut_records, 1u);
  EXPECT_GT(spool->recovery().cut_bytes, kRecordHeaderSize);
  EXPECT_NE(spool->recovery().told().find("cut off"), std::string::npos);
  append("fourth", {a});
  for (int i = 0; i < 3; ++i) {  // their numbers are never used again, and that is not told as damage
    open();
    EXPECT_EQ(spool->recovery().damaged_records, 0u);
    EXPECT_EQ(spool->recovery().passes_over_cut, true);
    EXPECT_EQ(spool->recovery().told(), "");
  }
  spool.reset();
  std::string& second = disk.files["spool/" + segment_name(2)]->now;
  second[second.find("fourth") + 1] ^= 1;
  open();
  EXPECT_EQ(spool->recovery().damaged_records, 1u) << "the others are still known";
}

// The snapshot before is still there, and what came behind it.
TEST_F(RecoveryTest, ADamagedSnapshotLosesNoState) {
  settings.segment_size = 600;
  open();
  const std::uint32_t a = spool->destination("a");
  std::string newest;
  for (int i = 0; i < 60; ++i) {
    append(std::to_string(i), {a});
    ASSERT_TRUE(spool->wait_durable(10s));
    read_all(a, spool->cursor(a));
    spool->passed(a, last);
  }
  for (int i = 0; i < 1000 && spool->size().segments > 2; ++i) std::this_thread::sleep_for(10ms);
  spool.reset();
  std::vector<std::string> segments;
  for (const auto& [path, inode] : disk.files)
    if (path.find("segment-") != std::string::npos) segments.push_back(path);
  ASSERT_EQ(segments.size(), 2u);
  disk.files[segments[1]]->now[kSegmentHeaderSize + kRecordHeaderSize + 3] ^= 1;
  open();
  EXPECT_EQ(spool->counter("lines"), 60);
  EXPECT_EQ(spool->state("checkpoint").value_or("none"), "59");
  EXPECT_EQ(spool->destination("a"), a);
  EXPECT_EQ(spool->waiting(a).events, 0u);
  EXPECT_EQ(spool->recovery().damaged_records, 1u);
  EXPECT_FALSE(spool->recovery().lost_state);
}

TEST_F(RecoveryTest, WhereNoSnapshotCanBeReadThatIsTold) {
  open();
  append("first", {spool->destination("a")});
  spool.reset();
  disk.files["spool/" + segment_name(1)]->now[kSegmentHeaderSize + kRecordHeaderSize] ^= 1;
  open();
  EXPECT_TRUE(spool->recovery().lost_state);
  EXPECT_NE(spool->recovery().told().find("no snapshot"), std::string::npos) << spool->recovery().told();
  open();
  EXPECT_FALSE(spool->recovery().lost_state) << "a new one was written";
}

// Files are removed together, and the names of any of them may come back when the power fails.
TEST_F(RecoveryTest, ARemovedSegmentThatComesBackIsNoDamage) {
  settings.segment_size = 600;
  const std::string first = "spool/" + segment_name(1), second = "spool/" + segment_name(2);
  for (const bool passed : {true, false}) {
    forget();
    open();
    const std::uint32_t a = spool->destination("a");
    for (int i = 0; i < 20; ++i) append(std::to_string(i), {a});
    ASSERT_TRUE(spool->wait_durable(10s));
    const auto inode = disk.files.at(first);
    read_all(a, 0);
    if (passed) {
      spool->passed(a, last);
      for (int i = 0; i < 1000 && spool->size().segments > 2; ++i) std::this_thread::sleep_for(10ms);
    }
    spool.reset();
    ASSERT_EQ(disk.files.contains(first), !passed);
    disk.files[first] = inode;
    disk.files.erase(second);
    open();
    EXPECT_EQ(spool->recovery().damaged_records == 0, passed) << spool->recovery().told();
    EXPECT_EQ(spool->recovery().missing.size(), 1u);
  }
}

TEST_F(RecoveryTest, OpensOnAFullDiskSoThatItCanDrain) {
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

TEST_F(RecoveryTest, DamageBelowTheDurableMarkIsSkippedAndCounted) {
  open();
  const std::uint32_t a = spool->destination("a");
  for (const char* e : {"first", "second", "third"}) {
    append(e, {a});
    ASSERT_TRUE(spool->wait_durable(1s));
  }
  spool.reset();
  damage("second");
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

TEST_F(RecoveryTest, WhatWaitedInADamagedRecordIsCountedForItsDestination) {
  open();
  const std::uint32_t a = spool->destination("a"), b = spool->destination("b"), c = spool->destination("c");
  for (const char* e : {"first", "second", "third"}) append(e, {a, b, c});
  ASSERT_TRUE(spool->wait_durable(1s));
  Spool::Read read;
  ASSERT_TRUE(spool->read(c, 0, 1min, read));
  spool->passed(c, read.number.number, {});
  read_all(b, 0);
  spool->passed(b, last, {});
  open();  // its snapshot knows how many wait
  spool.reset();
  damage("second");
  for (int i = 0; i < 2; ++i) {  // it is counted once
    open();
    EXPECT_EQ(spool->counter(counter_of_destination(a, "damaged")), 1);
    EXPECT_EQ(spool->counter(counter_of_destination(b, "damaged")), 0);
    EXPECT_EQ(spool->counter(counter_of_destination(c, "damaged")), 1);
    EXPECT_EQ(spool->waiting(a).events, 2u);
    EXPECT_EQ(spool->recovery().damaged_events, i == 0 ? 2u : 0u);
  }
  EXPECT_EQ(read_all(a, 0), (std::vector<std::string>{"first", "third"}));
}

TEST_F(RecoveryTest, WhatWasPassedBeforeItWasDamagedWasAppended) {
  open();
  const std::uint32_t a = spool->destination("a"), b = spool->destination("b");
  for (const char* e : {"first", "second", "third"}) append(e, {a, b});
  read_all(b, 0);
  spool->passed(b, last, {});
  ASSERT_EQ(spool->note({}), 0);
  ASSERT_TRUE(spool->wait_durable(1s));
  damage("second");
  open();
  EXPECT_EQ(spool->waiting(b).appended, 3u);
  EXPECT_EQ(spool->waiting(b).events, 0u);
  EXPECT_EQ(spool->waiting(a).events, 2u);
  EXPECT_EQ(read_all(a, 0), (std::vector<std::string>{"first", "third"}));
}

TEST_F(RecoveryTest, DamageWhileRunningIsPassedOverAndCounted) {
  open();
  const std::uint32_t a = spool->destination("a");
  for (const char* e : {"first", "second", "third"}) append(e, {a});
  ASSERT_TRUE(spool->wait_durable(1s));
  damage("second");
  Spool::Read read;
  ASSERT_TRUE(spool->read(a, 0, 1min, read));
  ASSERT_TRUE(spool->read(a, read.number.number, 1min, read));
  EXPECT_EQ(read.batch.events, "third");
  EXPECT_EQ(read.unreadable_events, 1u);
}

TEST_F(RecoveryTest, AnotherVersionOfTheFormatIsRefusedAndKept) {
  open();
  append("1", {spool->destination("a")});
  spool.reset();
  auto& inode = disk.files.at("spool/" + segment_name(1));
  std::string& bytes = inode->now;
  bytes[7] = '2';  // sound but for that
  std::string sum;
  ByteWriter(sum).u64(XXH64(bytes.data(), 48, 0));
  bytes.replace(48, 8, sum);
  inode->durable = bytes;
  const std::string before = inode->now;
  auto opened = Spool::open(disk, settings);
  ASSERT_FALSE(opened);
  EXPECT_NE(opened.problem().message.find("another version"), std::string::npos) << opened.problem().message;
  EXPECT_EQ(disk.files.at("spool/" + segment_name(1))->now, before);
}

// What a destination has seen survives a power failure, and nothing beyond the cut is invented.
TEST_F(RecoveryTest, PowerFailuresLoseNothingThatWasShown) {
  int reused = 0;
  for (std::uint64_t seed = 1; seed <= 60; ++seed) {
    forget();
    settings.segment_size = 600;
    open();
    const std::uint32_t a = spool->destination("a");
    Spool::Read read;
    std::uint64_t after = 0;
    const int earlier = seed % 2 ? 30 : 0;  // then files of earlier segments are written again
    if (earlier) {
      for (int i = 0; i < earlier; ++i) append(std::to_string(i - earlier), {a});
      ASSERT_TRUE(spool->wait_durable(1min));
      while (spool->read(a, after, 0ms, read)) after = read.number.number;
      spool->passed(a, after);
      for (int i = 0; i < 100 && spool->size().segments > 2; ++i) std::this_thread::sleep_for(10ms);
    }
    for (int i = 0; i < 8; ++i) append(std::to_string(i), {a});
    std::size_t shown = 0;
    while (shown < 4 && spool->read(a, after, 1min, read)) after = read.number.number, ++shown;
    for (int i = 8; i < 12; ++i) append(std::to_string(i), {a});
    FaultyDisk copy;  // the moment of the failure: the running spool knows nothing of it
    copy.copy(disk);
    copy.lose_power(seed);
    auto opened = Spool::open(copy, settings);
    ASSERT_TRUE(opened) << seed;
    std::vector<std::string> all;
    after = 0;
    while ((*opened)->read(a, after, 0ms, read))
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

TEST(RecoveryOnDisk, SecondProcessIsRefused) {
  const std::string folder = testing::TempDir() + "/spool-" + std::to_string(::getpid());
  std::filesystem::remove_all(folder);
  auto first = Spool::open(system_disk(), {.folder = folder});
  ASSERT_TRUE(first);
  auto second = Spool::open(system_disk(), {.folder = folder});
  ASSERT_FALSE(second);
  EXPECT_NE(second.problem().message.find("in use"), std::string::npos);
  std::filesystem::remove_all(folder);
}

TEST(Format, AHeaderIsWholeAndHasItsMark) {
  const std::string record = encode_record(RecordType::note, 1, 0, "payload", 1);
  RecordHeader h;
  EXPECT_TRUE(decode_record_header(record, h));
  EXPECT_EQ(h.payload_size, 7u);
  EXPECT_FALSE(decode_record_header(std::string_view(record).substr(0, kRecordHeaderSize - 1), h));
  EXPECT_FALSE(decode_record_header("X" + record.substr(1), h));
  EXPECT_FALSE(record_is_intact(record, 2)) << "of another segment";
  EXPECT_FALSE(record_is_intact(std::string_view(record).substr(0, record.size() - 1), 1));
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

}  // namespace
}  // namespace dingle
