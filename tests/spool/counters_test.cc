#include "spool/counters.h"

#include <gtest/gtest.h>

#include "tests/spool/spool_fixture.h"

namespace dingle {
namespace {

TEST(Counters, HaveANumberForAName) {
  Counters counters;
  const CounterId lines = counters.id("lines");
  EXPECT_EQ(counters.id("lines"), lines);
  EXPECT_NE(counters.id("bytes"), lines);
  EXPECT_EQ(counters.news().size(), 2u);
  counters.add({lines, 5});
  counters.add({lines, -2});
  EXPECT_EQ(counters.value("lines"), 3);
  EXPECT_EQ(counters.value("nosuch"), 0);
  EXPECT_EQ(counters.all(), (std::map<std::string, std::int64_t>{{"lines", 3}}));
}

TEST(Counters, AreForgottenByPrefix) {
  Counters counters;
  for (const char* name : {"step/a/in", "step/b/in", "source/s"}) counters.add({counters.id(name), 1});
  counters.told();
  counters.forget("step/", "step/b/");
  EXPECT_EQ(counters.all().size(), 2u);
  ASSERT_EQ(counters.news().size(), 1u);
  EXPECT_EQ(counters.news()[0].name, "");
  Counters other;  // that reads the same log
  other.apply({{1, "step/a/in"}, {2, "step/b/in"}, {3, "source/s"}});
  for (CounterId id : {1u, 2u, 3u}) other.add({id, 1});
  other.apply(counters.news());
  EXPECT_EQ(other.all(), counters.all());
  EXPECT_EQ(other.id("step/a/in"), 4u);
  counters.forget("source/", "");
  EXPECT_EQ(counters.all().size(), 1u);
}

TEST(Counters, OneWithoutANameIsNotTakenForAnother) {
  Counters counters;
  counters.add({7, 3});  // its name was in a record that is damaged
  const CounterId next = counters.id("lines");
  EXPECT_GT(next, 7u);
  EXPECT_EQ(counters.all().size(), 0u);
  EXPECT_EQ(counters.value("lines"), 0);
}

TEST(Counters, ALostNameIsGivenBack) {
  Counters counters;
  counters.add({7, 3});
  counters.id("lines");
  Snapshot snapshot;
  counters.write(snapshot);
  Counters later;
  later.restore(snapshot.names, snapshot.counters);
  EXPECT_EQ(later.name({{7, "bytes"}, {8, "other"}, {9, "none"}, {7, "again"}, {5, ""}}), 1u);
  EXPECT_EQ(later.value("bytes"), 3);
  ASSERT_EQ(later.news().size(), 1u) << "the log shall have it";
  EXPECT_EQ(later.name({{7, "bytes"}}), 0u);
  later.add({12, 1});
  EXPECT_EQ(later.name({{12, "lines"}}), 0u) << "that name has another number";
}

TEST_F(SpoolTest, CountersComeBackByTheirNames) {
  open();
  const std::uint32_t d = spool->destination("d");
  for (int i = 0; i < 3; ++i) {
    EXPECT_EQ(append("x", {d}), 0);
    spool->count("new-" + std::to_string(i), i + 1);  // its name is new; the next batch comes before any note
    Spool::Append a;
    a.changes.counters = {{spool->counter_id("batch-" + std::to_string(i)), 10}};
    EXPECT_EQ(spool->append(a), 0);
    open();
    for (int k = 0; k <= i; ++k) {
      EXPECT_EQ(spool->counter("new-" + std::to_string(k)), k + 1);
      EXPECT_EQ(spool->counter("batch-" + std::to_string(k)), 10);
    }
    EXPECT_EQ(spool->counter("lines"), i + 1);
  }
  spool->forget_counters("batch-", "batch-1");
  for (int i = 0; i < 2; ++i) {
    EXPECT_EQ(spool->counter("batch-0"), 0);
    EXPECT_EQ(spool->counter("batch-1"), 10);
    open();
  }
  spool->count("batch-0", 4);
  open();
  EXPECT_EQ(spool->counter("batch-0"), 4);
}

TEST_F(SpoolTest, NamesOfCountersOutliveTheirSegment) {
  settings.segment_size = 2000;
  open();
  const std::uint32_t d = spool->destination("d");
  spool->counter_id("never counted");
  spool->count("once", 1);
  for (int i = 0; i < 50; ++i) ASSERT_EQ(append(std::string(300, 'x'), {d}), 0);
  spool->passed(d, 1'000'000);
  ASSERT_EQ(append("x", {d}), 0);
  const CounterId kept = spool->counter_id("never counted");
  open();
  EXPECT_EQ(spool->counter_id("never counted"), kept);
  EXPECT_EQ(spool->counter("once"), 1);
  EXPECT_EQ(spool->counter("lines"), 51);
}

}  // namespace
}  // namespace dingle
