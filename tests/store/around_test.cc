// An event and what stood around it.
#include "store/around.h"

#include <algorithm>
#include <map>
#include <random>

#include "spool/events.h"
#include "tests/store/store_fixture.h"

namespace dingle {
namespace {

const FieldId kPath = field_id("log.file.path");

class AroundTest : public StoreTest {
 protected:
  // A line of a stream, `position` bytes into it; events come in the order in which they are added.
  void line(std::uint64_t stream, std::uint64_t position, const std::string& path = "",
            std::uint32_t branch = 0) {
    ++number_;
    add(number_, static_cast<std::int64_t>(number_ % 7), 200, fmt(stream, position, branch), stream);
    StoredEvent& e = events.back();
    e.position = position;
    e.branch = branch;
    auto& more = fields.emplace_back();
    more.push_back({names::source, Value::text("gate")});
    if (!path.empty()) more.push_back({kPath, Value::text(texts.emplace_back(path))});
    e.more = more;
  }
  static std::string fmt(std::uint64_t stream, std::uint64_t position, std::uint32_t branch) {
    return std::to_string(stream) + "/" + std::to_string(position) +
           (branch ? "+" + std::to_string(branch) : "");
  }
  // Their bodies, the event itself in brackets.
  std::string around(std::uint64_t stream, std::uint64_t position, std::size_t lines, const Query& query = {},
                     std::uint32_t branch = 0) {
    scanned = {};
    const auto found = find_around(
        {store.get()}, query, event_key(stream, position, branch), lines,
        [](const StoredEvent& e, std::string& to) { to = e.body; }, scanned);
    if (!found) return "none";
    std::string all;
    for (std::size_t i = 0; i < found->events.size(); ++i) {
      const std::string& body = found->events[i].json;
      all += (all.empty() ? "" : " ") + (i == found->at ? "[" + body + "]" : body);
    }
    EXPECT_TRUE(scanned.problems.empty());
    return all;
  }
  Scanned scanned;
  std::uint64_t number_ = 0;
};

TEST_F(AroundTest, NeighboursAreOfItsStreamInTheOrderOfLines) {
  for (const std::uint64_t position : {0, 10, 20, 30, 40}) line(1, position), line(2, position);
  commit();
  line(1, 50);
  commit("gate-2026-11-24");
  EXPECT_EQ(around(1, 20, 1), "1/10 [1/20] 1/30");
  EXPECT_EQ(around(1, 20, 100), "1/0 1/10 [1/20] 1/30 1/40 1/50") << "over the indexes";
  EXPECT_EQ(around(2, 0, 2), "[2/0] 2/10 2/20");
  EXPECT_EQ(around(1, 50, 2), "1/30 1/40 [1/50]");
  EXPECT_EQ(around(1, 30, 0), "[1/30]");
  EXPECT_EQ(around(3, 0, 1), "none");
}

TEST_F(AroundTest, WhatCameLaterThanItsPlaceStandsThere) {
  for (const std::uint64_t position : {0, 20, 30}) line(1, position);
  line(1, 10);  // a dead letter that was sent again
  line(1, 20, "", 1);
  commit();
  EXPECT_EQ(around(1, 20, 5), "1/0 1/10 [1/20] 1/20+1 1/30");
  EXPECT_EQ(around(1, 20, 1, {}, 1), "1/20 [1/20+1] 1/30");
}

TEST_F(AroundTest, AFileGoesOnOverItsRotation) {
  for (const std::uint64_t position : {0, 10, 20}) line(9, position, "/logs/gate.log");
  for (const std::uint64_t position : {0, 10}) line(5, position, "/logs/other.log");
  for (const std::uint64_t position : {0, 10}) line(4, position, "/logs/gate.log");
  commit();
  for (const std::uint64_t position : {0, 10}) line(7, position, "/logs/gate.log");
  line(8, 0);
  commit();
  EXPECT_EQ(around(4, 0, 2), "9/10 9/20 [4/0] 4/10 7/0");
  EXPECT_EQ(around(9, 20, 100), "9/0 9/10 [9/20] 4/0 4/10 7/0 7/10");
  EXPECT_EQ(around(8, 0, 3), "[8/0]") << "a connection is one alone";
}

TEST_F(AroundTest, OnlyNeighboursThatTheQueryAdmits) {
  for (const std::uint64_t position : {0, 10, 20, 30, 40}) line(1, position);
  events[1].body = "fog", events[3].body = "fog";
  commit();
  Query query;
  query.where = *Condition::parse("body = 'fog'");
  EXPECT_EQ(around(1, 20, 1, query), "fog [1/20] fog");
  query.where = Condition();
  query.from = kMorning + 3 * 60 * kSecond;  // of the third on
  EXPECT_EQ(around(1, 20, 5, query), "[1/20] fog 1/40");
}

TEST_F(AroundTest, EveryEventOfAStreamIsFoundWithItsNeighbours) {
  for (std::uint64_t n = 0; n < 300; ++n) line(n % 3, n / 3 * 10);
  commit();
  store->merge();
  for (std::uint64_t n = 0; n < 100; ++n)
    EXPECT_EQ(around(1, n * 10, 1), (n == 0 ? "" : fmt(1, n * 10 - 10, 0) + " ") + "[" + fmt(1, n * 10, 0) +
                                        "]" + (n == 99 ? "" : " " + fmt(1, n * 10 + 10, 0)));
}

// Lines with any times, in many blocks of one or several streams.
TEST_F(AroundTest, WhatIsFarIsPassedOverAndNothingElse) {
  std::mt19937 random(11);
  std::map<std::uint64_t, std::vector<std::uint64_t>> positions;
  for (std::uint64_t block = 0; block < 60; ++block) {
    const std::uint64_t streams = 1 + block % 3 / 2 * 2;
    for (int i = 0; i < 5; ++i) {
      const std::uint64_t stream = 1 + random() % streams, position = positions[stream].size() * 10;
      positions[stream].push_back(position);
      line(stream, position);
      const std::int64_t spread = block % 2 == 0 ? 86'400 : 20;
      events.back().timestamp =
          kMorning +
          static_cast<std::int64_t>(block * 3600 + random() % static_cast<unsigned>(spread)) * kSecond;
    }
    commit("gate-" + std::to_string(block % 4));
  }
  for (int i = 0; i < 150; ++i) {
    const std::uint64_t stream = 1 + random() % 3, lines = random() % 8;
    const std::uint64_t at = random() % positions[stream].size();
    std::string expected;
    for (std::uint64_t n = at < lines ? 0 : at - lines; n <= at + lines && n < positions[stream].size();
         ++n) {
      const std::string one = fmt(stream, n * 10, 0);
      expected += (expected.empty() ? "" : " ") + (n == at ? "[" + one + "]" : one);
    }
    ASSERT_EQ(around(stream, at * 10, lines), expected);
  }
}

}  // namespace
}  // namespace dingle
