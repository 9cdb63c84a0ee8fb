#include "agent/engine/samples.h"

#include <gtest/gtest.h>

#include <cstring>

#include "core/time/instant.h"

namespace dingle {
namespace {

TEST(ShapeSample, GroupsByShapeWithCountsAndTimes) {
  ShapeSample sample;
  for (int i = 0; i < 50; ++i)
    sample.add("gate", {"gate " + std::to_string(i) + " stuck", "column 1", 1, i * kSecond});
  sample.add("gate", {"no berth", "column 4", 4, 7 * kSecond});
  sample.add("crane", {"other", "", 0, 1});
  std::uint64_t others = 1;
  const auto shapes = sample.shapes("gate", &others);
  ASSERT_EQ(shapes.size(), 2u);
  EXPECT_EQ(shapes[0].shape, "gate {int} stuck");
  EXPECT_EQ(shapes[0].count, 50u);
  EXPECT_EQ(shapes[0].first, 0);
  EXPECT_EQ(shapes[0].last, 49 * kSecond);
  EXPECT_EQ(shapes[0].lines.size(), ShapeSample::kLinesOfShape);
  EXPECT_EQ(shapes[1].column, 4u);
  EXPECT_EQ(others, 0u);
  sample.forget();
  EXPECT_TRUE(sample.shapes("gate", &others).empty());
}

TEST(ShapeSample, IsBoundedAndCountsWhatItForgets) {
  ShapeSample sample;
  constexpr std::uint64_t kLines = 5000;
  for (std::uint64_t i = 0; i < kLines; ++i) {
    std::string word;
    for (std::uint64_t n = i; word.size() < 4; n /= 26) word += static_cast<char>('a' + n % 26);
    sample.add("p", {i % 2 ? "often" : word, "", 0, 1});
  }
  std::uint64_t others = 0, counted = 0;
  const auto shapes = sample.shapes("p", &others);
  EXPECT_LE(shapes.size(), ShapeSample::kMostShapes);
  for (const SampledShape& s : shapes) counted += s.count;
  EXPECT_EQ(counted + others, kLines);
  EXPECT_EQ(shapes[0].shape, "often");
  EXPECT_EQ(shapes[0].count, kLines / 2);
}

// Each line of a shape is as likely to be kept as any other.
TEST(ShapeSample, IsFair) {
  int late = 0;
  ShapeSample sample;
  for (int round = 0; round < 200; ++round) {
    const std::string pipeline = std::to_string(round);
    for (int i = 0; i < 100; ++i) sample.add(pipeline, {std::to_string(i), "", 0, 1});
    std::uint64_t others = 0;
    const auto shapes = sample.shapes(pipeline, &others);
    for (const std::string& line : shapes[0].lines) late += std::stoi(line) >= 50;
  }
  EXPECT_GT(late, 800);  // of 2000; a half would be 1000
  EXPECT_LT(late, 1200);
}

SourceBatch batch_of(const std::vector<std::string>& lines) {
  SourceBatch batch;
  batch.source = "s";
  auto buffer = std::make_shared<LineBuffer>(4096);
  std::size_t at = 0;
  for (const std::string& line : lines) {
    std::memcpy(buffer->bytes.get() + at, line.data(), line.size());
    batch.lines.push_back({{buffer->bytes.get() + at, line.size()}, at});
    at += line.size();
  }
  buffer->finish(at);
  batch.buffer = buffer;
  return batch;
}

std::vector<std::string> texts(const std::vector<SampleLine>& lines) {
  std::vector<std::string> all;
  for (const SampleLine& line : lines) all.push_back(line.text);
  return all;
}

TEST(NewestLines, AreTheLastOnesOldestFirst) {
  NewestLines newest;
  EXPECT_TRUE(newest.of("s", 5).empty());
  newest.add(batch_of({"a", "b", "c"}));
  newest.add(batch_of({"d"}));
  EXPECT_EQ(texts(newest.of("s", 2)), (std::vector<std::string>{"c", "d"}));
  EXPECT_EQ(texts(newest.of("s", 9)), (std::vector<std::string>{"a", "b", "c", "d"}));
  for (int i = 0; i < 3000; ++i) newest.add(batch_of({std::to_string(i)}));
  const auto all = newest.of("s", 100'000);
  EXPECT_GE(all.size(), NewestLines::kLines);
  EXPECT_LE(all.size(), NewestLines::kLines + 1);
  EXPECT_EQ(all.back().text, "2999");
}

}  // namespace
}  // namespace dingle
