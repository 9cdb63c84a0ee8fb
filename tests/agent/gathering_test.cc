// Small batches of several streams as one, in their order.
#include "agent/sources/gathering.h"

#include <gtest/gtest.h>

#include <cstdlib>

namespace dingle {
namespace {

class GatheringTest : public testing::Test {
 protected:
  struct Taken final : Intake {
    std::vector<SourceBatch> batches;
    bool takes = true;
    Problems none{[](const Problems::Problem&, Problems::Said) {}};
    std::string folder;
    bool submit(SourceBatch batch) override {
      if (takes) batches.push_back(std::move(batch));
      return takes;
    }
    Intake::Taken submit_durably(SourceBatch, std::chrono::nanoseconds, std::chrono::nanoseconds) override {
      return Intake::Taken::stopping;
    }
    Spool& spool() override { std::abort(); }
    Problems& problems() override { return none; }
    const std::string& data_folder() const override { return folder; }
    void leave(const std::string&, std::shared_ptr<void>) override {}
    std::shared_ptr<void> take_over(const std::string&) override { return nullptr; }
  };
  struct At final : Clock {
    std::int64_t now = 1'000'000'000;
    std::int64_t wall() const override { return now; }
    std::int64_t steady() const override { return now; }
  };
  At clock;
  Taken taken;
  Gathering gathering{taken, clock};

  static SourceBatch batch(std::uint64_t stream, std::vector<std::string> lines, std::string key = "") {
    SourceBatch b;
    b.source = "s";
    b.slices = {{stream, std::make_shared<Resource>()}};
    std::string all;
    for (const std::string& line : lines) all += line + "\n";
    auto buffer = std::make_shared<LineBuffer>(all.size());
    std::copy(all.begin(), all.end(), buffer->bytes.get());
    buffer->finish(all.size());
    std::size_t at = 0;
    for (const std::string& line : lines) {
      b.lines.push_back({{buffer->bytes.get() + at, line.size()}, at});
      at += line.size() + 1;
    }
    b.buffer = buffer;
    b.bytes = all.size();
    b.observed = 77;
    b.changes.counters = {{1, static_cast<std::int64_t>(lines.size())}};
    if (!key.empty()) b.changes.state.push_back({key, "v", false});
    return b;
  }
  std::string all() const {  // batches of STREAM@POSITION:LINE
    std::string out;
    for (const SourceBatch& b : taken.batches) {
      for (const SourceLine& l : b.lines)
        out += std::to_string(b.slices[l.slice].stream) + "@" + std::to_string(l.position) + ":" +
               std::string(l.text) + " ";
      out += "| ";
    }
    return out;
  }
};

TEST_F(GatheringTest, TheFirstGoesOnAtOnceAndWhatComesSoonIsGathered) {
  gathering.add(batch(1, {"a", "b"}));
  EXPECT_EQ(all(), "1@0:a 1@2:b | ");
  gathering.add(batch(2, {"c"}));
  gathering.add(batch(1, {"d", "e"}));
  EXPECT_FALSE(gathering.empty());
  EXPECT_EQ(taken.batches.size(), 1u);
  clock.now += Gathering::kMoment;
  gathering.add(batch(2, {"f"}));
  EXPECT_EQ(all(), "1@0:a 1@2:b | 2@0:c 1@0:d 1@2:e 2@0:f | ");
  EXPECT_EQ(taken.batches[1].bytes, 8u);
  ASSERT_EQ(taken.batches[1].changes.counters.size(), 1u) << "counts of one counter are one";
  EXPECT_EQ(taken.batches[1].changes.counters[0].change, 4);
  clock.now += Gathering::kMoment;
  gathering.add(batch(3, {"g"}));
  EXPECT_EQ(taken.batches.size(), 3u) << "nothing was waiting";
}

TEST_F(GatheringTest, ChangesKeepTheirPlaceBehindTheLines) {
  gathering.add(batch(1, {"a"}));
  gathering.add(batch(1, {"b"}, "one"));
  SourceBatch alone;
  alone.source = "s";
  alone.changes.state.push_back({"two", "", true});
  gathering.add(alone);
  EXPECT_EQ(taken.batches.size(), 1u);
  EXPECT_TRUE(gathering.flush());
  ASSERT_EQ(taken.batches[1].changes.state.size(), 2u);
  EXPECT_EQ(taken.batches[1].changes.state[1].key, "two");
  gathering.add(alone);  // first of all
  gathering.add(batch(1, {"c"}));
  EXPECT_TRUE(gathering.flush());
  EXPECT_EQ(taken.batches[2].observed, 77) << "of the lines";
}

TEST_F(GatheringTest, WhatIsLargeGoesOnAsItIsBehindWhatWasGathered) {
  gathering.add(batch(1, {"a"}));
  gathering.add(batch(2, {"b"}));
  const SourceBatch large = batch(1, {std::string(Gathering::kSmall, 'x')});
  gathering.add(large);
  ASSERT_EQ(taken.batches.size(), 3u);
  EXPECT_EQ(taken.batches[1].slices.size(), 1u);
  EXPECT_EQ(taken.batches[2].buffer, large.buffer) << "not copied";
}

TEST_F(GatheringTest, EnoughIsEnoughAlsoWithoutTime) {
  std::uint64_t n = 0;
  for (; taken.batches.size() < 3 && n < 100; ++n) gathering.add(batch(n, {std::string(20'000, 'x')}));
  EXPECT_EQ(taken.batches[1].lines.size(), Gathering::kEnough / 20'001);
  for (n = 0; taken.batches.size() < 5 && n < 20'000; ++n) gathering.add(batch(n, {"y"}));
  EXPECT_EQ(taken.batches[4].slices.size(), Gathering::kMostSlices);
  for (const SourceBatch& b : taken.batches)
    for (const SourceLine& l : b.lines)
      ASSERT_TRUE(l.text.data() >= b.buffer->bytes.get() &&
                  l.text.data() + l.text.size() <= b.buffer->bytes.get() + b.buffer->size);
}

TEST_F(GatheringTest, NothingIsTakenOnceItWasRefused) {
  gathering.add(batch(1, {"a"}));
  EXPECT_TRUE(gathering.add(batch(1, {"b"})));
  taken.takes = false;
  EXPECT_FALSE(gathering.flush());
  EXPECT_TRUE(gathering.refused());
  taken.takes = true;
  clock.now += Gathering::kMoment;
  EXPECT_FALSE(gathering.add(batch(1, {"c"}))) << "it would leave a gap";
  EXPECT_EQ(taken.batches.size(), 1u);
}

}  // namespace
}  // namespace dingle
