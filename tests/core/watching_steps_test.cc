// pace, tally and alert: steps that remember what came.
#include "tests/core/remembers.h"

namespace dingle {
namespace {

Node options(std::initializer_list<std::pair<std::string, const char*>> plain,
             std::vector<std::pair<std::string, Node>> more = {}) {
  std::vector<std::pair<std::string, Node>> all;
  for (const auto& [key, value] : plain) all.emplace_back(key, scalar(value, false));
  for (auto& one : more) all.push_back(std::move(one));
  return map(all);
}
const std::pair<std::string, Node> kByKey{"by", list({"k"})};

TEST(Pace, LetsSoManyPassInEachPartOfTime) {
  Remembers p("pace", options({{"most", "2"}, {"each", "10s"}}, {kByKey}));
  EXPECT_EQ(
      p.turn({{"a", {}, 1000}, {"a", {}, 1009}, {"a", {}, 1005}, {"b", {}, 1001}, {"a", {}, 1010}}).size(),
      4u);
  EXPECT_EQ(p.tally.dropped, 1u);
  p.restart();
  EXPECT_EQ(p.turn({{"a", {}, 1002}, {"a", {}, 1011}, {"a", {}, 1012}}).size(),
            1u);  // late ones count where they belong
  EXPECT_EQ(p.turn({{"", {}, 1000}, {"", {}, 1000}, {"", {}, 1000}}).size(),
            2u);                                                                // without the field: together
  EXPECT_EQ(p.turn({{"c", {}, -1}, {"c", {}, -10}, {"c", {}, 0}}).size(), 3u);  // before the epoch
}

TEST(Pace, ForgetsAndIsBounded) {
  Remembers p("pace",
              options({{"most", "1"}, {"each", "1s"}, {"longest", "60s"}, {"most_keys", "2"}}, {kByKey}));
  p.turn({{"a", {}, 1}, {"b", {}, 1}, {"c", {}, 1}});
  EXPECT_EQ(p.memory->size().entries, 2u);
  EXPECT_EQ(p.tally.early, 1u);
  p.now += 60 * kSecond;
  p.tick();
  EXPECT_EQ(p.memory->size().entries, 0u);
  EXPECT_TRUE(p.kept.empty());
}

// The series of a tally, as "label=value: n".
Texts series(const Remembers& t) {
  Texts all;
  for (const auto& [key, value] : t.kept) {
    TallySeries s;
    EXPECT_TRUE(t.step_().series_of(key, value, s));
    std::string one;
    for (const auto& [label, text] : s.labels) one += label + "=" + text + " ";
    one += Value::decimal(s.value).to_string();
    for (const std::uint64_t n : s.buckets) one += " " + std::to_string(n);
    all.push_back(one);
  }
  return all;
}
const std::pair<std::string, Node> kLabels{"labels", map({{"key", scalar("k")}})};

TEST(Tally, CountsByLabels) {
  Remembers t("tally", options({{"metric", "scans"}}, {kLabels, {"fixed", map({{"quay", scalar("west")}})}}));
  EXPECT_EQ(t.turn({{"a", {}, 1}, {"b", {}, 1}, {"a", {}, 2}, {"", {}, 3}}).size(), 4u);  // they pass
  t.restart();
  t.turn({{"a", {}, 1}});
  EXPECT_EQ(series(t), (Texts{"quay=west key= 1", "quay=west key=a 3", "quay=west key=b 1"}));
}

TEST(Tally, AddsValuesUpAndSortsThemIn) {
  Remembers sum("tally", options({{"metric", "load"}, {"value", "n"}}));
  sum.turn({{"a", Value::integer(5), 1},
            {"a", Value::decimal(0.5), 1},
            {"a", {}, 1},
            {"a", Value::text("x"), 1},
            {"a", Value::integer(-1), 1}});
  EXPECT_EQ(series(sum), Texts{"5.5"});
  EXPECT_EQ(sum.tally.failed, 2u);
  EXPECT_EQ(sum.tally.missed, 1u);
  Remembers h("tally", options({{"metric", "wait"}, {"value", "n"}, {"kind", "histogram"}},
                               {{"buckets", list({"1", "2.5"})}}));
  h.turn({{"a", Value::integer(1), 1}, {"a", Value::decimal(1.5), 1}, {"a", Value::integer(9), 1}});
  h.restart();
  h.turn({{"a", Value::integer(-2), 1}});
  EXPECT_EQ(series(h), Texts{"9.5 2 1 1"});
  Remembers g("tally", options({{"metric", "level"}, {"value", "n"}, {"kind", "gauge"}}));
  g.turn({{"a", Value::integer(7), 10}, {"a", Value::integer(3), 5}});
  EXPECT_EQ(series(g), Texts{"7"});
  g.turn({{"a", Value::integer(4), 9}});
  EXPECT_EQ(series(g), Texts{"7"});  // the newest by the events' time
}

TEST(Tally, SeriesAreBounded) {
  Remembers t("tally", options({{"metric", "scans"}, {"most_series", "2"}}, {kLabels}));
  t.turn({{"a", {}, 1}, {"b", {}, 1}, {"c", {}, 1}, {"d", {}, 1}, {"a", {}, 1}});
  EXPECT_EQ(series(t), (Texts{"key=a 2", "key=b 1", "key=other 2"}));
  EXPECT_EQ(t.tally.early, 1u + 1u);
}

TEST(Tally, OfSumsBeyond64BitsIsNear) {
  Remembers t("tally", options({{"metric", "load"}, {"value", "n"}}));
  const Value most = Value::integer(std::numeric_limits<std::int64_t>::max());
  t.turn({{"a", most, 1}, {"a", most, 1}});
  ASSERT_EQ(series(t).size(), 1u);
  EXPECT_NEAR(std::stod(series(t)[0]), 1.8446744073709552e19, 1e4);
}

Node alert(std::initializer_list<std::pair<std::string, const char*>> plain,
           std::vector<std::pair<std::string, Node>> more = {}) {
  Node all = options(plain, std::move(more));
  all.entries.push_back({"called", {}, scalar("refused")});
  return all;
}
Texts alerts(const Texts& out) {
  Texts all;
  for (const std::string& text : out)
    if (text.starts_with("refused:")) all.push_back(text);
  return all;
}

TEST(Alert, SaysOnceThatThereAreTooMany) {
  Remembers a("alert", alert({{"more_than", "2"}, {"within", "10s"}, {"quiet", "100s"}}, {kByKey}));
  EXPECT_EQ(alerts(a.turn({{"a", {}, 1000}, {"b", {}, 1001}, {"a", {}, 1005}, {"a", {}, 1011}})),
            Texts{});  // 1000 and 1011: 11 s
  a.restart();
  EXPECT_EQ(alerts(a.turn({{"a", {}, 1012}})), Texts{"refused: more than 2 within 10s for k=a"});
  EXPECT_EQ(alerts(a.turn({{"a", {}, 1013}, {"a", {}, 1014}})), Texts{});  // quiet
  a.restart();
  EXPECT_EQ(alerts(a.turn({{"a", {}, 1111}, {"a", {}, 1112}, {"a", {}, 1113}})),
            Texts{"refused: more than 2 within 10s for k=a"});
  EXPECT_EQ(a.tally.created, 2u);
  EXPECT_EQ(a.tally.dropped, 0u);
}

TEST(Alert, EventsMayComeOutOfOrder) {
  Remembers a("alert", alert({{"more_than", "2"}, {"within", "10s"}}));
  EXPECT_EQ(alerts(a.turn({{"a", {}, 1005}, {"a", {}, 1009}, {"a", {}, 2000}, {"a", {}, 1001}})).size(), 0u);
  Remembers b("alert", alert({{"more_than", "2"}, {"within", "10s"}}));
  EXPECT_EQ(alerts(b.turn({{"a", {}, 1005}, {"a", {}, 1009}, {"a", {}, 1001}})).size(), 1u);
}

TEST(Alert, SaysThatThereAreTooFew) {
  Remembers a("alert", alert({{"fewer_than", "2"}, {"within", "60s"}, {"quiet", "300s"}}));
  EXPECT_EQ(a.memory->next_due(), 0);  // it watches from the start on
  EXPECT_EQ(a.tick(), Texts{});
  a.now = 1020 * kSecond;
  a.turn({{"x", {}, 1010}, {"x", {}, 1020}});
  EXPECT_EQ(a.memory->next_due(), 1070 * kSecond);  // when the first of the two is too old
  a.now = 1069 * kSecond;
  EXPECT_EQ(a.tick(), Texts{});
  a.now = 1070 * kSecond;
  EXPECT_EQ(a.tick(), Texts{"refused: fewer than 2 within 1m, 1 came"});
  a.now = 1200 * kSecond;
  EXPECT_EQ(a.tick(), Texts{});  // quiet
  a.now = 1370 * kSecond;
  EXPECT_EQ(a.tick(), Texts{"refused: fewer than 2 within 1m, 0 came"});  // still so
}

TEST(Alert, JudgesOnlyTimeInWhichItRanAndWasNotBehind) {
  Remembers a("alert", alert({{"fewer_than", "1"}, {"within", "60s"}}));
  a.tick();
  a.now = 5000 * kSecond;  // the program was stopped
  a.restart();
  EXPECT_EQ(a.tick(), Texts{});
  a.now = 5059 * kSecond;
  EXPECT_EQ(a.tick(), Texts{});
  a.now = 5060 * kSecond;
  EXPECT_EQ(a.tick().size(), 1u);
}

TEST(Alert, KeysAreForgotten) {
  Remembers a(
      "alert",
      alert({{"fewer_than", "1"}, {"within", "10s"}, {"watch_for", "100s"}, {"quiet", "50s"}}, {kByKey}));
  a.turn({{"a", {}, 1000}, {"b", {}, 1000}});
  a.now = 1010 * kSecond;
  EXPECT_EQ(a.tick().size(), 2u);
  a.now = 1100 * kSecond;
  EXPECT_EQ(a.tick().size(), 0u);
  EXPECT_EQ(a.memory->size().entries, 0u);
  Remembers few("alert", alert({{"more_than", "1"}, {"most_keys", "2"}}, {kByKey}));
  few.turn({{"a", {}, 1}, {"b", {}, 1}, {"c", {}, 1}});
  EXPECT_EQ(few.memory->size().entries, 2u);
  EXPECT_EQ(few.tally.early, 1u);
}

TEST(Alert, DamagedMemoryIsRefused) {
  Remembers a("alert", alert({{"more_than", "2"}}));
  a.turn({{"a", {}, 1000}});
  const std::string value = a.kept.begin()->second;
  for (std::size_t n = 0; n < value.size(); ++n)
    EXPECT_FALSE(a.step_().restore(*a.memory, "", value.substr(0, n), 0)) << n;
  EXPECT_FALSE(a.step_().restore(*a.memory, "", value + "x", 0));
}

}  // namespace
}  // namespace dingle
