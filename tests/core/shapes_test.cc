#include "core/draft/shapes.h"

#include <gtest/gtest.h>

#include "core/draft/tokens.h"

namespace dingle {
namespace {

constexpr std::int64_t kNow = 1'795'428'000'000'000'000;

std::string told(const ShapeCount& count) {
  std::string all;
  for (const CountedShape& s : count.shapes())
    all += s.shape + " " + std::to_string(s.count[0]) + "/" + std::to_string(s.count[1]) + "; ";
  return all;
}

TEST(ShapeCounts, TextsThatDifferInValuesAreOne) {
  ShapeCount count;
  for (const char* text : {"berth 4 free", "berth 17 free", "berth 123456 free"}) count.add(text, kNow, 0);
  count.add("berth 4 free", kNow, 1);
  count.add("berth 4 taken", kNow, 1, 5);
  EXPECT_EQ(told(count), "berth {int} taken 0/5; berth {int} free 3/1; ");
  const auto shapes = count.shapes();
  EXPECT_EQ(shapes[1].example[0], "berth 4 free");
  EXPECT_EQ(shapes[0].example[0], "");
}

// What is known again by its beginning has the shape that it has by itself.
TEST(ShapeCounts, DigitsAreToldApartWhereTheyMeanSomething) {
  const char* const texts[] = {"took 12ms",
                               "took 12",
                               "took 12.5",
                               "at 192.0.2.7",
                               "at 10:00:00",
                               "at 2026-11-23T10:00:00Z",
                               "at 2026-11-24T11:30:09Z",
                               "took 1h",
                               "took x17",
                               "took 12MiB",
                               "took 7 %",
                               "id 123e4567-e89b-12d3-a456-426614174000",
                               "took 17ms",
                               "took -3",
                               "berth",
                               ""};
  ShapeCount count;
  for (const char* text : texts) count.add(text, kNow, 0);
  std::map<std::string, std::uint64_t> expected;
  for (const char* text : texts) ++expected[shape_of(text, kNow)];
  const auto shapes = count.shapes();
  EXPECT_EQ(shapes.size(), expected.size()) << told(count);
  for (const CountedShape& s : shapes) EXPECT_EQ(s.count[0], expected[s.shape]) << s.shape;
}

// Wherever in the text they stand: digits and words are looked for many bytes at a time.
TEST(ShapeCounts, DigitsAreFoundAtEveryPlace) {
  for (std::size_t before = 0; before < 150; ++before) {
    const std::string pad = std::string(before, '.') + (before % 3 ? " " : "");
    ShapeCount count;
    for (const char* text : {"12 cars", "34 cars", "1200 cars", "x2y cars", "cars", "12ms", "7", "ab 9"}) {
      ShapeCount alone;
      alone.add(pad + text, kNow, 0);
      count.add(pad + text, kNow, 0);
      std::vector<std::string> pieces;
      std::vector<bool> words;
      EXPECT_EQ(alone.shapes().at(0).shape, shape_of(pad + text, kNow, pieces, words)) << before << text;
    }
    std::uint64_t all = 0;
    for (const CountedShape& s : count.shapes()) {
      all += s.count[0];
      EXPECT_LE(s.count[0], 3u) << before << s.shape;  // numbers of any length before the same word
    }
    EXPECT_EQ(all, 8u);
    EXPECT_EQ(count.shapes().size(), 6u) << before << told(count);
  }
}

TEST(ShapeCounts, AWordOfManyIsAnyWord) {
  ShapeCount count;
  const std::string letters = "abcdefghijklmnopqrst";
  for (const char c : letters) count.add(std::string("ship ") + c + "at leaves", kNow, c % 2);
  count.add("ship tern sinks", kNow, 0);
  EXPECT_EQ(told(count), "ship {word} leaves 10/10; ship {word} sinks 1/0; ");
}

TEST(ShapeCounts, AreBoundedAndPutTogether) {
  ShapeCount one, other;
  std::string text;
  for (std::size_t i = 0; i < ShapeCount::kMostShapes + 100; ++i) {
    text.clear();
    for (std::size_t n = i; n != 0; n /= 20) text += static_cast<char>('a' + n % 20), text += '-';
    one.add(text, kNow, 0);
  }
  EXPECT_EQ(one.others()[0], 100u);
  other.add("a-", kNow, 1), other.add("free", kNow, 1);
  one.take(std::move(other));
  std::uint64_t now = 0, before = 0;
  for (const CountedShape& s : one.shapes()) now += s.count[0], before += s.count[1];
  EXPECT_EQ(now, ShapeCount::kMostShapes);
  EXPECT_EQ(before, 2u);
}

}  // namespace
}  // namespace dingle
