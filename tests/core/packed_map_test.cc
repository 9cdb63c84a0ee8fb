// The packed map against std::map.
#include "core/packed_map.h"

#include <gtest/gtest.h>

#include <map>
#include <random>

namespace dingle {
namespace {

using Model = std::map<std::string, std::string>;

Model all_of(const PackedMap& map) {
  Model all;
  map.each([&](std::string_view key, std::string_view value) {
    EXPECT_TRUE(all.empty() || all.rbegin()->first < key);
    all.emplace(key, value);
  });
  return all;
}

std::uint64_t bytes_of(const Model& model) {
  std::uint64_t bytes = 0;
  for (const auto& [key, value] : model) bytes += key.size() + value.size();
  return bytes;
}

TEST(PackedMap, IsAMap) {
  PackedMap map;
  EXPECT_TRUE(map.empty());
  EXPECT_FALSE(map.erase("a"));
  EXPECT_EQ(map.value("a"), std::nullopt);
  EXPECT_TRUE(map.put("b", "2"));
  EXPECT_TRUE(map.put("a", ""));
  EXPECT_TRUE(map.put("", "nothing"));
  EXPECT_FALSE(map.put("b", "3"));
  EXPECT_EQ(map.value("b"), "3");
  EXPECT_EQ(map.value("a"), "");
  EXPECT_EQ(map.value(""), "nothing");
  EXPECT_FALSE(map.contains("aa"));
  EXPECT_EQ(map.size(), 3u);
  EXPECT_TRUE(map.erase(""));
  EXPECT_FALSE(map.erase(""));
  EXPECT_EQ(all_of(map), (Model{{"a", ""}, {"b", "3"}}));
}

TEST(PackedMap, PrefixesAreRanges) {
  PackedMap map;
  for (const char* key : {"a", "a/", "a/1", "a/2", "a0", "b"}) map.put(key, key);
  std::string seen;
  map.each_with_prefix("a/", [&](std::string_view key, std::string_view) { seen += std::string(key) + " "; });
  EXPECT_EQ(seen, "a/ a/1 a/2 ");
  seen.clear();
  map.each_from("a/11", [&](std::string_view key, std::string_view) { return seen += key, false; });
  EXPECT_EQ(seen, "a/2");
}

TEST(PackedMap, KeysInTheirOrderAreTheLastOnesUntilSomethingElseHappens) {
  PackedMap map;
  Model model;
  for (int i = 1000; i < 2000; ++i) {
    const std::string key = "k" + std::to_string(i);
    map.put(key, key), model[key] = key;
    if (i == 1400) map.put("k1399", "again"), model["k1399"] = "again";
    if (i == 1500) map.erase(key), model.erase(key);
    if (i == 1600) {
      const PackedMap copy = map;
      map.put("k1600x", ""), model["k1600x"] = "";
      EXPECT_EQ(copy.size() + 1, map.size());
    }
    if (i == 1700) {
      PackedMap other = std::move(map);
      map = std::move(other);
      other.put("a", "b");
    }
  }
  EXPECT_EQ(all_of(map), model);
  PackedMap large;
  for (const char* key : {"a", "b", "c"}) large.put(key, std::string(5000, *key));
  EXPECT_EQ(large.value("b"), std::string(5000, 'b'));
}

TEST(PackedMap, ACopyStaysAsItWas) {
  PackedMap map;
  for (int i = 0; i < 1000; ++i) map.put("key-" + std::to_string(i), "before");
  const PackedMap copy = map;
  for (int i = 0; i < 1000; i += 2) map.put("key-" + std::to_string(i), "after");
  for (int i = 1; i < 1000; i += 2) map.erase("key-" + std::to_string(i));
  EXPECT_EQ(copy.size(), 1000u);
  copy.each([](std::string_view, std::string_view value) { EXPECT_EQ(value, "before"); });
  EXPECT_EQ(map.size(), 500u);
}

class PackedMaps : public testing::TestWithParam<int> {};
TEST_P(PackedMaps, AreWhatAMapWouldBe) {
  std::mt19937_64 random(static_cast<std::uint64_t>(GetParam()));
  const auto below = [&](std::size_t n) { return random() % n; };
  PackedMap map;
  Model model;
  const std::size_t keys = GetParam() % 2 == 0 ? 50 : 5000, longest = GetParam() % 3 == 0 ? 5000 : 40;
  for (int i = 0; i < 20'000; ++i) {
    std::string key = below(9) == 0 ? "" : "memory/7/";
    key += GetParam() % 4 == 1 ? std::to_string(i) : std::to_string(below(keys));  // in their order, nearly
    if (below(50) == 0) key.append(below(300), 'x');
    if (below(3) == 0) {
      EXPECT_EQ(map.erase(key), model.erase(key) == 1);
      continue;
    }
    const std::string value(below(100) == 0 ? below(longest) : below(40), static_cast<char>('a' + below(3)));
    EXPECT_EQ(map.put(key, value), !model.contains(key));
    model[key] = value;
    if (i % 1000 == 0) {
      ASSERT_EQ(all_of(map), model);
    }
  }
  EXPECT_EQ(all_of(map), model);
  EXPECT_EQ(map.size(), model.size());
  EXPECT_EQ(map.bytes(), bytes_of(model));
  for (const auto& [key, value] : model) EXPECT_EQ(map.value(key), value);
  while (!model.empty()) {
    const auto at =
        std::next(model.begin(), static_cast<std::ptrdiff_t>(below(std::min<std::size_t>(model.size(), 9))));
    EXPECT_TRUE(map.erase(at->first));
    model.erase(at);
  }
  EXPECT_TRUE(map.empty());
  EXPECT_EQ(map.bytes(), 0u);
}
INSTANTIATE_TEST_SUITE_P(Some, PackedMaps, testing::Range(0, 12));

}  // namespace
}  // namespace dingle
