#include "spool/inspect.h"

#include "tests/spool/spool_fixture.h"

namespace dingle {
namespace {

class InspectTest : public SpoolTest {
 protected:
  SpoolReport look() {
    auto found = inspect_spool(disk, "spool");
    EXPECT_TRUE(found) << found.problem().message;
    return found ? *found : SpoolReport{};
  }
};

TEST_F(InspectTest, TellsWhatTheSegmentsHold) {
  open();
  const std::uint32_t a = spool->destination("a"), b = spool->destination("b");
  append("1", {a, b});
  append("2", {a});
  open();
  Spool::Append packed{{}, {{b, 7}}, compress_events(std::string(1000, 'x')), true};
  ASSERT_EQ(spool->append(packed), 0);
  read_all(a, 0);
  spool->passed(a, last, {{{"gone", "", true}, {"checkpoint", "later", false}}, {}});
  const std::uint64_t id = spool->identity().spool_id, epoch = spool->identity().epoch;
  spool.reset();
  const SpoolReport r = look();
  EXPECT_FALSE(r.damaged());
  ASSERT_EQ(r.segments.size(), 2u);
  EXPECT_EQ(r.segments[0].name, segment_name(1));
  EXPECT_EQ(r.segments[0].epoch, epoch - 1);
  EXPECT_EQ(r.segments[0].first, 1u);
  EXPECT_EQ(r.segments[1].first, r.segments[0].last + 1);
  EXPECT_EQ(r.segments[1].last, r.segments[1].first + r.segments[1].records - 1);
  EXPECT_EQ(r.spool_id, id);
  EXPECT_EQ(r.snapshots, 2u);
  EXPECT_EQ(r.batches, 3u);
  EXPECT_EQ(r.compressed, 1u);
  EXPECT_EQ(r.notes + r.batches + r.snapshots, r.segments[1].last);
  EXPECT_EQ(r.missing_records + r.torn_bytes, 0u);
  EXPECT_EQ(r.state.state.value("checkpoint"), "later");
  EXPECT_EQ(r.waiting.count(a), 0u);
  EXPECT_EQ(r.waiting.at(b).events, 8u);
  EXPECT_EQ(r.waiting.at(b).records, 2u);
  EXPECT_GT(r.waiting.at(b).bytes, 2 * kRecordHeaderSize);
}

TEST_F(InspectTest, StateIsAsOfTheNewestRecord) {
  open();
  ASSERT_EQ(spool->note({{{"x", "1", false}, {"y", "1", false}}, {}}), 0);
  open();  // the second segment's snapshot holds both
  ASSERT_EQ(spool->note({{{"x", "", true}, {"y", "2", false}}, {}}), 0);
  spool.reset();
  const SpoolReport r = look();
  EXPECT_FALSE(r.state.state.contains("x"));
  EXPECT_EQ(r.state.state.value("y"), "2");
}

TEST_F(InspectTest, TellsDamageAndATornEndApart) {
  open();
  const std::uint32_t a = spool->destination("a");
  for (const char* e : {"first", "second", "third"}) append(e, {a});
  ASSERT_TRUE(spool->wait_durable(1s));
  spool.reset();
  std::string& bytes = disk.files.at("spool/" + segment_name(1))->now;
  const std::string whole = bytes;
  bytes.resize(bytes.size() - 1);
  EXPECT_FALSE(look().damaged());
  EXPECT_GT(look().torn_bytes, 0u);
  bytes = whole;
  damage("second");
  EXPECT_TRUE(look().damaged());
  EXPECT_EQ(look().missing_records, 1u);
  EXPECT_GT(look().segments[0].damaged_bytes, kRecordHeaderSize);
  EXPECT_EQ(look().torn_bytes, 0u);
  EXPECT_EQ(look().waiting.at(a).events, 2u);
  bytes[3] ^= 1;
  EXPECT_NE(look().segments[0].problem.find("header"), std::string::npos);
  bytes = whole;
  bytes[7] = '1';
  EXPECT_NE(look().segments[0].problem.find("another version"), std::string::npos);
}

TEST_F(InspectTest, NoSpoolIsSaid) {
  auto found = inspect_spool(disk, "spool");
  ASSERT_FALSE(found);
  EXPECT_NE(found.problem().message.find("no spool"), std::string::npos);
}

}  // namespace
}  // namespace dingle
