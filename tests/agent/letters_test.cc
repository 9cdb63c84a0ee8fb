#include "agent/engine/letters.h"

#include <gtest/gtest.h>
#include <unistd.h>

#include <filesystem>
#include <fstream>

#include "agent/engine/histogram.h"

namespace dingle {
namespace {

class LettersTest : public testing::Test {
 protected:
  const std::string path = testing::TempDir() + "letters-" + std::to_string(::getpid()) + "-" +
                           testing::UnitTest::GetInstance()->current_test_info()->name();
  void SetUp() override { remove_file(); }
  void TearDown() override { remove_file(); }
  void remove_file() {
    for (const char* end : {"", "-wal", "-shm"}) std::filesystem::remove(path + end);
  }
  static void keep(Letters& letters, const std::vector<Letter>& some) {
    std::string problem;
    ASSERT_TRUE(letters.keep(some, &problem)) << problem;
  }
};

TEST_F(LettersTest, ComeBackAsTheyWereKept) {
  Letters letters(path);
  const Letter one{.destination = 7,
                   .number = {2, 30},
                   .ordinal = 4,
                   .at = 99,
                   .attempts = 3,
                   .reason = "no berth",
                   .event = "{\"a\":1}",
                   .source = "gate",
                   .record = std::string("a\0b", 3)};
  keep(letters, {one});
  const auto list = letters.list({}, 10, true);
  ASSERT_EQ(list.size(), 1u);
  EXPECT_EQ(list[0].destination, 7u);
  EXPECT_EQ(list[0].number, (LogNumber{2, 30}));
  EXPECT_EQ(list[0].ordinal, 4u);
  EXPECT_EQ(list[0].at, 99);
  EXPECT_EQ(list[0].attempts, 3u);
  EXPECT_EQ(list[0].reason, "no berth");
  EXPECT_EQ(list[0].event, one.event);
  EXPECT_EQ(list[0].source, "gate");
  EXPECT_EQ(list[0].record, one.record);
  EXPECT_EQ(letters.list({}, 10)[0].record, "");
  EXPECT_GT(letters.bytes(), 0u);
  EXPECT_EQ(letters.kept_behind(7, 29).count({30, 4}), 1u);
  EXPECT_TRUE(letters.kept_behind(7, 30).empty());
  EXPECT_TRUE(letters.kept_behind(8, 0).empty());
}

TEST_F(LettersTest, ReasonsAreTrueAfterEveryChange) {
  Letters letters(path);
  auto reasons = [&] {
    std::string out;
    for (const auto& sum : letters.reasons(7, 10))
      out += sum.reason + "=" + std::to_string(sum.letters) + " ";
    return out;
  };
  EXPECT_EQ(reasons(), "");
  keep(letters, {{.destination = 7, .number = {1, 1}, .reason = "a"},
                 {.destination = 8, .number = {1, 1}, .reason = "a"}});
  EXPECT_EQ(reasons(), "a=1 ");
  keep(letters, {{.destination = 7, .number = {1, 2}, .reason = "b"},
                 {.destination = 7, .number = {1, 3}, .reason = "b"}});
  EXPECT_EQ(reasons(), "b=2 a=1 ");
  EXPECT_EQ(letters.reasons(7, 1).size(), 1u);
  std::string problem;
  EXPECT_TRUE(letters.withdraw(7, {1, 2}, 0, &problem)) << problem;
  EXPECT_EQ(letters.count(7), 2u);
  EXPECT_EQ(reasons(), "a=1 b=1 ");
  EXPECT_EQ(letters.remove({.destination = 7, .reason = "a"}), 1u);
  EXPECT_EQ(reasons(), "b=1 ");
  EXPECT_EQ(letters.count(8), 1u) << "another destination's";
}

TEST_F(LettersTest, AreChosenByEachOfTheirMarks) {
  Letters letters(path);
  keep(letters, {{.destination = 7, .number = {1, 1}, .reason = "a berth"},
                 {.destination = 7, .number = {1, 2}, .reason = "100% full"},
                 {.destination = 8, .number = {1, 1}, .reason = "a berth"}});
  auto ids = [&](const LetterChoice& choice) {
    std::string out;
    for (const Letter& l : letters.list(choice, 10)) out += std::to_string(l.id);
    return out;
  };
  EXPECT_EQ(ids({}), "123");
  EXPECT_EQ(ids({.destination = 7}), "12");
  EXPECT_EQ(ids({.reason = "berth"}), "13");
  EXPECT_EQ(ids({.reason = "%"}), "2") << "no pattern";
  EXPECT_EQ(ids({.after = 1}), "23");
  EXPECT_EQ(ids({.ids = {1, 3}, .after = 1}), "3");
  EXPECT_EQ(letters.list({}, 2).size(), 2u);
}

TEST_F(LettersTest, TheSameEventIsKeptOnce) {
  Letters letters(path);
  for (int i = 0; i < 2; ++i) keep(letters, {{.destination = 7, .number = {1, 1}, .reason = "a"}});
  EXPECT_EQ(letters.count(7), 1u);
}

TEST_F(LettersTest, WhatIsMissingIsToldOnceAndCounted) {
  {
    Letters letters(path);
    EXPECT_EQ(letters.check(7, 0), "");
    EXPECT_FALSE(std::filesystem::exists(path));
    std::string problem;
    std::vector<Letter> five;
    for (std::uint64_t n = 1; n <= 5; ++n)
      five.push_back({.destination = 7, .number = {1, n}, .event = "{}"});
    ASSERT_TRUE(letters.keep(five, &problem)) << problem;
    EXPECT_EQ(letters.remove({.ids = {1, 2}}), 2u);
    EXPECT_EQ(letters.check(7, 5), "");
    EXPECT_NE(letters.check(7, 6).find("1 were kept and are missing"), std::string::npos);
    EXPECT_EQ(letters.check(7, 6), "");
    EXPECT_EQ(letters.lost(7), 1u);
    EXPECT_EQ(letters.check(8, 0), "");
    EXPECT_EQ(letters.lost(8), 0u);
  }
  remove_file();
  std::ofstream(path) << std::string(8192, 'x');
  {
    Letters damaged(path);
    EXPECT_NE(damaged.check_file().find("move it away"), std::string::npos);
    EXPECT_NE(damaged.check(7, 6), "");
    EXPECT_EQ(damaged.lost(7), 0u);
  }
  std::filesystem::remove(path);
  Letters anew(path);
  EXPECT_EQ(anew.check_file(), "");
  EXPECT_NE(anew.check(7, 6).find("6 were kept"), std::string::npos);
}

TEST(LatencyHistogram, QuantilesWithinAFourth) {
  Histogram h;
  for (int i = 1; i <= 1000; ++i) h.add(i * std::int64_t{1'000'000});
  EXPECT_NEAR(h.quantile(0.5), 0.5, 0.13);
  EXPECT_NEAR(h.quantile(0.99), 0.99, 0.25);
  EXPECT_EQ(h.count(), 1000u);
  EXPECT_EQ(h.at_most(1e9), 1000u);
  h.add(-5);
  h.add(INT64_MAX, 100);
  EXPECT_EQ(h.at_most(1e-5), 1u);
}

}  // namespace
}  // namespace dingle
