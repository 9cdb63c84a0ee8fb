#include "store/search.h"

#include <gtest/gtest.h>

#include <random>
#include <unordered_set>

#include "store/bloom.h"

namespace dingle {
namespace {

struct GlobCase {
  const char *text, *glob;
  bool matches;
};
class Globs : public testing::TestWithParam<GlobCase> {};
TEST_P(Globs, Match) {
  EXPECT_EQ(matches_glob(GetParam().text, GetParam().glob), GetParam().matches)
      << GetParam().text << " " << GetParam().glob;
}
INSTANTIATE_TEST_SUITE_P(Names, Globs,
                         testing::Values(GlobCase{"gate-1", "gate-1", true},
                                         GlobCase{"gate-1", "gate-*", true}, GlobCase{"gate-1", "*1", true},
                                         GlobCase{"gate-1", "*", true}, GlobCase{"gate-1", "g*-*", true},
                                         GlobCase{"gate-1", "gate", false}, GlobCase{"gate-1", "*2", false},
                                         GlobCase{"", "*", true}, GlobCase{"aab", "*ab", true},
                                         GlobCase{"abab", "a*b", true}));

TEST(Bloom, HasEveryWordAndFewOthers) {
  std::vector<std::uint64_t> in;
  for (int i = 0; i < 5000; ++i) in.push_back(word_hash("word" + std::to_string(i)));
  const std::string stored = make_bloom(in);
  ASSERT_TRUE(bloom_bits(stored));
  const std::string filter(*bloom_bits(stored));
  for (std::uint64_t h : in) ASSERT_TRUE(bloom_may_have(filter, h));
  int false_positives = 0;
  for (int i = 0; i < 20'000; ++i)
    false_positives += bloom_may_have(filter, word_hash("other" + std::to_string(i)));
  EXPECT_LT(false_positives, 20'000 * 2 / 100);
  EXPECT_EQ(word_hash("GATE"), word_hash("gate"));
  EXPECT_TRUE(bloom_may_have("", 1)) << "without a filter anything may be there";
}

TEST(BlockEncoder, SplitsAtTheMostEventsAndColumns) {
  BlockEncoder encoder;
  std::vector<StoredEvent> many(kEventsPerBlock + 10, StoredEvent{1, 1, {1, 1, 1, 0}, 1, 1, "b", {}, {}});
  std::size_t taken = 0;
  encoder.encode(many, taken);
  EXPECT_EQ(taken, kEventsPerBlock);
  std::vector<std::vector<Field>> fields(30);
  std::vector<StoredEvent> wide;
  for (std::size_t i = 0; i < fields.size(); ++i) {
    for (std::size_t k = 0; k < 100; ++k)
      fields[i].push_back({field_id("wide" + std::to_string(i * 100 + k)), Value::integer(1)});
    wide.push_back({1, 1, {1, 1, i, 0}, 1, 1, "b", fields[i], {}});
  }
  const EncodedBlock block = encoder.encode(wide, taken);
  EXPECT_LT(taken, wide.size());
  EXPECT_EQ(block.count, taken);
}

// Events of different deliveries: the same name under different ids, and one that lasts.
TEST(BlockEncoder, ANameIsOneColumnWhateverItsDictionary) {
  NameDictionary one, other;
  const FieldId lasting = field_id("status");
  const std::vector<std::vector<Field>> fields{
      {{one.id("k1"), Value::integer(1)}, {lasting, Value::integer(200)}, {one.id("k2"), Value::text("a")}},
      {{other.id("k1"), Value::integer(2)},
       {lasting, Value::integer(404)},
       {other.id("k2"), Value::integer(7)}},
      {{other.id("k2"), Value::text("b")}, {other.id("k1"), Value::integer(3)}}};
  std::vector<StoredEvent> events;
  for (std::size_t i = 0; i < fields.size(); ++i)
    events.push_back({static_cast<std::int64_t>(i), 0, {1, 1, i, 0}, 1, i, "body", fields[i], {}});
  BlockEncoder encoder;
  std::size_t taken = 0;
  const EncodedBlock encoded = encoder.encode(events, taken);
  auto block =
      Block::open(encoded.directory, [&](std::size_t i) { return std::optional(encoded.chunks[i]); });
  ASSERT_TRUE(block);
  std::string all;
  for (std::size_t row = 0; row < 3; ++row) {
    std::vector<Field> out, more;
    block->event(row, out, more);
    std::sort(out.begin(), out.end(),
              [](const Field& a, const Field& b) { return field_name(a.name) < field_name(b.name); });
    for (const Field& f : out) all += std::string(field_name(f.name)) + "=" + f.value.to_string() + " ";
    block->select(row);
    EXPECT_EQ(block->get(field_id("status")).absent(), row == 2);
  }
  EXPECT_EQ(all, "k1=1 k2=a status=200 k1=2 k2=7 status=404 k1=3 k2=b ");
}

// A column of texts has no bounds: any of them may satisfy.
TEST(Block, IsReadWhereAColumnHasNoBounds) {
  const std::vector<Field> numbers{{field_id("load"), Value::integer(3)}},
      texts{{field_id("load"), Value::text("3")}};
  for (const auto& [fields, may] : {std::pair{numbers, false}, {texts, true}}) {
    std::vector<StoredEvent> events{{1, 0, {1, 1, 1, 0}, 1, 0, "body", fields, {}}};
    BlockEncoder encoder;
    std::size_t taken = 0;
    const EncodedBlock encoded = encoder.encode(events, taken);
    auto block =
        Block::open(encoded.directory, [&](std::size_t i) { return std::optional(encoded.chunks[i]); });
    ASSERT_TRUE(block);
    EXPECT_EQ(block->may_satisfy(Condition::parse("load > 5")->bounds()), may);
    EXPECT_TRUE(block->may_satisfy(Condition::parse("load > 2")->bounds()));
  }
}

TEST(BlockEncoder, AWordCountsOnceForTheFilter) {
  BlockEncoder encoder;
  std::vector<StoredEvent> many(4000, StoredEvent{1, 1, {1, 1, 1, 0}, 1, 1, "gate seven opened", {}, {}});
  std::size_t taken = 0;
  const std::size_t once = encoder.encode(std::span(many).first(1), taken).filter.size();
  EXPECT_EQ(encoder.encode(many, taken).filter.size(), once);
  EXPECT_EQ(taken, many.size());
}

TEST(BlockEncoder, EventsComeBackWithWhereTheyWere) {
  BlockEncoder encoder;
  std::vector<StoredEvent> events{{5, 6, {1, 2, 3, 4}, 77, 88, "first", {}, {}},
                                  {7, 8, {1, 2, 3, 5}, 78, 89, "second", {}, {}}};
  std::size_t taken = 0;
  const EncodedBlock encoded = encoder.encode(events, taken);
  const auto block =
      Block::open(encoded.directory, [&](std::size_t n) { return std::optional(encoded.chunks.at(n)); });
  ASSERT_TRUE(block);
  std::vector<Field> fields, more;
  for (std::size_t row = 0; row < 2; ++row) {
    const StoredEvent e = block->event(row, fields, more);
    EXPECT_EQ(e.timestamp, events[row].timestamp);
    EXPECT_EQ(e.observed, events[row].observed);
    EXPECT_EQ(e.order, events[row].order);
    EXPECT_EQ(e.stream, events[row].stream);
    EXPECT_EQ(e.position, events[row].position);
    EXPECT_EQ(e.body, events[row].body);
  }
}

TEST(BlockEncoder, HoldsTheRangeOfItsTimes) {
  BlockEncoder encoder;
  std::vector<StoredEvent> events;
  for (const std::int64_t t : {5, 3, 9}) events.push_back({t, 1, {1, 1, 1, 0}, 1, 1, "b", {}, {}});
  std::size_t taken = 0;
  const EncodedBlock block = encoder.encode(events, taken);
  EXPECT_EQ(block.first, 3);
  EXPECT_EQ(block.last, 9);
}

TEST(Lanes, AreFixedForEver) {
  // Changing these would make stores forget what they have.
  for (auto [stream, lane] :
       {std::pair{std::uint64_t{1}, 5u}, {2, 0u}, {3, 1u}, {4, 3u}, {5, 5u}, {1000, 1u}})
    EXPECT_EQ(lane_of(stream), lane);
  std::unordered_set<unsigned> all;
  for (std::uint64_t s = 0; s < 1000; ++s) {
    EXPECT_LT(lane_of(s), kLanes);
    all.insert(lane_of(s));
  }
  EXPECT_EQ(all.size(), kLanes);
}

}  // namespace
}  // namespace dingle
