// fold and unique, without an engine: a memory, turns, and a clock that stands in the turn.
#include <gtest/gtest.h>
#include <xxhash.h>

#include <map>
#include <random>

#include "core/flow/pipeline.h"
#include "core/steps/set_function.h"
#include "core/time/instant.h"
#include "tests/core/nodes.h"
#include "tests/core/remembers.h"

namespace dingle {
namespace {

std::string problem(const char* kind, const Node& options) {
  static const PatternLibrary library;
  Findings findings("");
  const StepKind* k = step_kind(kind);
  const Options o = Options::read(k->spec.options, options, kind, findings);
  if (o.sound()) k->make({o, library, findings});
  return findings.all().empty() ? "" : findings.all()[0].message;
}

Node fold(const std::vector<std::pair<std::string, Node>>& more = {}) {
  std::vector<std::pair<std::string, Node>> all{{"by", list({"k"})},
                                                {"window", scalar("10s", false)},
                                                {"grace", scalar("5s", false)},
                                                {"values", map({{"sum", scalar("sum(n)")}})}};
  for (const auto& one : more) {
    std::erase_if(all, [&](const auto& a) { return a.first == one.first; });
    all.push_back(one);
  }
  return map(all);
}

TEST(Fold, WindowsGoByTheEventsTimeAndAreSentByTheClock) {
  Remembers f("fold", fold());
  EXPECT_EQ(
      f.turn(
          {{"a", Value::integer(1), 1000}, {"b", Value::integer(2), 1009}, {"a", Value::integer(3), 1010}}),
      Texts{});
  EXPECT_EQ(f.memory->next_due(), 1015 * kSecond);
  f.now = 1014 * kSecond;
  EXPECT_EQ(f.tick(), Texts{});
  f.now = 1015 * kSecond;
  EXPECT_EQ(f.tick(), (Texts{"k=a sum=1 stands_for=1", "k=b sum=2 stands_for=1"}));
  f.now = 1025 * kSecond;
  EXPECT_EQ(f.tick(), Texts{"k=a sum=3 stands_for=1"});
  EXPECT_EQ(f.tally.created, 3u);
}

TEST(Fold, WaitsWhileSomethingComesButNotForEver) {
  Remembers f("fold", fold({{"longest", scalar("20s", false)}}));
  for (std::int64_t s = 1000; s < 1020; s += 4) {
    f.now = s * kSecond;
    EXPECT_EQ(f.turn({{"a", Value::integer(1), 900}}, Turn::Why::due), Texts{}) << s;
  }
  f.now = 1020 * kSecond;
  EXPECT_EQ(f.tick(), Texts{"k=a sum=5 stands_for=5"});
  // How many parts there were is known for as long again.
  EXPECT_EQ(f.kept.size(), 1u);
  f.now = 1040 * kSecond;
  f.tick();
  EXPECT_EQ(f.kept.size(), 0u);
}

TEST(Fold, TimesBeforeTheEpochAndAtTheEdgeHaveWindows) {
  Remembers f("fold", fold());
  EXPECT_EQ(f.turn({{"a", Value::integer(1), -1}}), Texts{});
  EXPECT_EQ(f.turn({{"a", Value::integer(1), -10}, {"a", Value::integer(1), 9'223'372'036}}), Texts{});
  EXPECT_EQ(f.turn({{"a", Value::integer(1), -9'223'372'036}}), Texts{"a 1"}) << "no whole window";
  EXPECT_EQ(f.tally.failed, 1u);
  f.now = 2000 * kSecond;
  EXPECT_EQ(f.tick(), (Texts{"k=a sum=2 stands_for=2"}));
  f.now = 3600 * kSecond + 1000 * kSecond;
  EXPECT_EQ(f.tick(), (Texts{"k=a sum=1 stands_for=1"})) << "it lies far ahead: `longest` ends it";
}

TEST(Fold, WhatAFunctionCannotTakeIsMarkedAndPassesOn) {
  Remembers f("fold", fold());
  EXPECT_EQ(f.turn({{"a", Value::text("x"), 1000}, {"a", Value::integer(2), 1000}, {"a", Value(), 1000}}),
            Texts{"a x"});
  EXPECT_EQ(f.tally.failed, 1u);
  EXPECT_EQ(f.tally.merged, 2u);
  f.now = 1100 * kSecond;
  EXPECT_EQ(f.tick(), Texts{"k=a sum=2 stands_for=2"}) << "one without the field is none of its values";
}

TEST(Fold, EventsThatLackAFieldAreAKindOfTheirOwn) {
  Remembers f("fold", fold());
  f.turn({{"", Value::integer(1), 1000}, {"a", Value::integer(2), 1000}});
  f.now = 1100 * kSecond;
  EXPECT_EQ(f.tick(), (Texts{"sum=1 stands_for=1", "k=a sum=2 stands_for=1"}));
}

TEST(Fold, AFullMemorySendsWhatWasNotTouchedForLongest) {
  Remembers f("fold", fold({{"most_windows", scalar("2", false)}}));
  EXPECT_EQ(f.turn({{"a", Value::integer(1), 1000}, {"b", Value::integer(2), 1000}}), Texts{});
  EXPECT_EQ(f.turn({{"a", Value::integer(1), 1000}, {"c", Value::integer(3), 1000}}),
            Texts{"k=b sum=2 stands_for=1"});
  EXPECT_EQ(f.tally.early, 1u);
  EXPECT_EQ(f.turn({{"b", Value::integer(7), 1000}}), Texts{"k=a sum=2 stands_for=2"});
  EXPECT_EQ(f.turn({}, Turn::Why::everything).size(), 2u);
  EXPECT_EQ(f.parts, (std::vector<std::int64_t>{1, 1, 1, 2})) << "of b there were two";
  f.restart();
}

TEST(Fold, MemoryIsBoundedInBytes) {
  Remembers f("fold", fold({{"most_bytes", scalar("64KiB", false)}}));
  std::uint64_t made = 0;
  for (int i = 0; i < 500; ++i) {
    made += f.turn({{std::string(2000, 'x') + std::to_string(i), Value::integer(1), 1000}}).size();
    EXPECT_LE(f.memory->size().bytes, 64u * 1024);
    EXPECT_LE(f.memory->size().entries, f.kept.size());
  }
  EXPECT_GT(made, 480u);
  EXPECT_EQ(f.turn({{std::string(20'000, 'y'), Value::integer(1), 1000}}).size(), 1u)
      << "too long a key: it passes";
  EXPECT_EQ(f.tally.failed, 1u);
}

TEST(Fold, ATickTakesABoundedPart) {
  Remembers f("fold", fold());
  std::vector<Line> lines;
  for (int i = 0; i < 15'000; ++i) lines.push_back({std::to_string(i), Value::integer(1), 1000});
  f.turn(lines);
  f.now = 1100 * kSecond;
  EXPECT_EQ(f.tick().size(), Turn::kMostAtOnce);
  EXPECT_LE(f.memory->next_due(), f.now);
  EXPECT_EQ(f.tick().size(), 5000u);
  EXPECT_GT(f.memory->next_due(), f.now);
}

TEST(Fold, OfFoldedEventsTheWeightCounts) {
  Remembers f("fold",
              fold({{"values", map({{"lines", scalar("count(*)")}, {"sized", scalar("count(n)")}})}}));
  Batch batch;
  for (const int weight : {3, 4}) {
    Event e;
    e.timestamp = 1000 * kSecond;
    e.set(batch.arena, names::stands_for, Value::integer(weight));
    if (weight == 3) e.set(batch.arena, field_id("n"), Value::integer(1));
    batch.events.push_back(e);
  }
  auto prepared = f.pipeline.prepare(0, batch);
  Turn t;
  t.now = f.now;
  f.pipeline.turn(0, batch, prepared, *f.memory, t, f.tally);
  f.now = 1100 * kSecond;
  EXPECT_EQ(f.tick(), Texts{"lines=7 sized=3 stands_for=7"});
}

// Whatever the batches, restarts, ticks and limits: the sums over all parts are those of the data.
TEST(Fold, SumsOverPartsAreThoseOfTheData) {
  for (unsigned seed = 0; seed < 20; ++seed) {
    std::mt19937 random(seed);
    Remembers f("fold", fold({{"most_windows", scalar(std::to_string(2 + random() % 30))},
                              {"longest", scalar("30s", false)},
                              {"values", map({{"sum", scalar("sum(n)")},
                                              {"min", scalar("min(n)")},
                                              {"max", scalar("max(n)")},
                                              {"first", scalar("first(n)")},
                                              {"last", scalar("last(n)")},
                                              {"different", scalar("count(distinct n)")}})}}));
    struct Came {
      std::int64_t sum = 0, count = 0;
    };
    std::map<std::string, Came> came, made;
    const auto collect = [&](const Texts& out) {
      for (const std::string& body : out) {
        const auto number = [&](const std::string& name) {
          const std::size_t at = body.find(name + "=");
          return at == std::string::npos ? 0 : std::atoll(body.c_str() + at + name.size() + 1);
        };
        Came& c = made[body.substr(2, 1)];
        c.sum += number("sum");
        c.count += number("stands_for");
        EXPECT_LE(number("min"), number("max"));
        EXPECT_LE(number("different"), number("stands_for"));
      }
    };
    for (int round = 0; round < 200; ++round) {
      std::vector<Line> lines;
      for (std::size_t i = random() % 20; i-- > 0;) {
        const std::string key(1, static_cast<char>('a' + random() % 8));
        const auto n = static_cast<std::int64_t>(random() % 1000) - 500;
        lines.push_back({key, Value::integer(n), f.now / kSecond - static_cast<std::int64_t>(random() % 60)});
        came[key].sum += n, ++came[key].count;
      }
      collect(f.turn(lines, random() % 3 == 0 ? Turn::Why::due : Turn::Why::events));
      f.now += static_cast<std::int64_t>(random() % 5) * kSecond;
      if (random() % 10 == 0) f.restart();
    }
    collect(f.turn({}, Turn::Why::everything));
    EXPECT_TRUE(f.kept.empty());
    ASSERT_EQ(made.size(), came.size());
    for (const auto& [key, c] : came) {
      EXPECT_EQ(made[key].sum, c.sum) << seed << " " << key;
      EXPECT_EQ(made[key].count, c.count) << seed << " " << key;
    }
  }
}

TEST(Fold, DamagedMemoryIsRefused) {
  Remembers f("fold",
              fold({{"values", map({{"d", scalar("count(distinct n)")}, {"l", scalar("last(n)")}})}}));
  f.turn({{"a", Value::integer(1), 1000}, {"b", Value::text("long enough"), 1000}});
  for (const auto& [key, value] : f.kept)
    for (std::size_t n = 0; n < value.size(); ++n) {
      EXPECT_FALSE(f.step_().restore(*f.step_().begin(), key, value.substr(0, n), 0)) << n;
      EXPECT_FALSE(f.step_().restore(*f.step_().begin(), key, value + "x", 0));
    }
  EXPECT_FALSE(f.step_().restore(*f.step_().begin(), "short", f.kept.begin()->second, 0));
}

TEST(Fold, SaysWhatIsWrongWithItsOptions) {
  for (const auto& [function, told] :
       std::map<std::string, std::string>{{"total(n)", "there is no function `total`"},
                                          {"summ(n)", "there is no function `summ`"},
                                          {"n", "`n` is no function of a field"},
                                          {"sum(n", "`sum(n` is no function of a field"},
                                          {"sum()", "`` is not a field's name"},
                                          {"sum(*)", "`*` is not a field's name"}})
    EXPECT_EQ(
        problem("fold", fold({{"values", map({{"x", scalar(function, false)}})}})).substr(0, told.size()),
        told);
  EXPECT_NE(
      problem("fold", fold({{"values", map({{"k", scalar("count(*)")}})}})).find("stands in `by` already"),
      std::string::npos);
  EXPECT_NE(problem("fold", fold({{"values", map({{"dingle.part", scalar("count(*)")}})}}))
                .find("belongs to the event itself"),
            std::string::npos);
  EXPECT_NE(problem("fold", fold({{"by", list({"timestamp"})}})).find("differs from event to event"),
            std::string::npos);
  EXPECT_NE(problem("unique", map({{"by", list({})}})), "");
}

TEST(SetFunctions, AreThoseOfSql) {
  const auto of = [](const char* function, const std::vector<Value>& values) {
    const auto f = SetFunction::parse(function);
    EXPECT_TRUE(f) << function;
    Accumulator whole, first, second;
    std::int64_t time = 10;
    for (std::size_t i = 0; i < values.size(); ++i) {
      whole.add(*f, values[i], time, 1);
      (i < values.size() / 2 ? first : second).add(*f, values[i], time++, 1);
    }
    first.merge(*f, second);
    EXPECT_EQ(first.value(*f), whole.value(*f)) << function;
    std::string bytes;
    ByteWriter out(bytes);
    whole.write(*f, out);
    Accumulator read;
    ByteReader in(bytes);
    EXPECT_TRUE(read.read(*f, in) && in.at_end());
    EXPECT_EQ(read.value(*f), whole.value(*f)) << function;
    return whole.value(*f).to_string();
  };
  const auto i = [](std::int64_t n) { return Value::integer(n); };
  EXPECT_EQ(of("count(*)", {i(1), {}, Value::text("x")}), "3");
  EXPECT_EQ(of(" count( n ) ", {i(1), {}, Value::text("x")}), "2");
  EXPECT_EQ(of("count(distinct n)", {i(1), i(1), Value::text("1"), {}}), "2");
  EXPECT_EQ(of("sum(n)", {i(1), i(2), {}}), "3");
  EXPECT_EQ(of("sum(n)", {i(1), Value::decimal(0.5)}), "1.5");
  EXPECT_EQ(of("sum(n)", {}), "");
  EXPECT_EQ(of("sum(n)", {i(INT64_MAX), i(INT64_MAX), i(-5)}), Value::decimal(0x1p64 - 7).to_string())
      << "beyond 64 bits";
  EXPECT_EQ(of("sum(n)", {i(INT64_MIN), i(-1)}), Value::decimal(-0x1p63).to_string());
  EXPECT_EQ(of("min(n)", {i(3), Value::decimal(2.5), i(4)}), "2.5");
  EXPECT_EQ(of("max(n)", {i(9007199254740993), Value::decimal(9007199254740992.0)}), "9007199254740993");
  EXPECT_EQ(of("max(n)", {Value::text("b"), Value::text("a"), i(7)}), "b");
  EXPECT_EQ(of("min(n)", {Value::timestamp(5), Value::timestamp(4)}), Value::timestamp(4).to_string());
  EXPECT_EQ(of("first(n)", {{}, i(3), i(2)}), "3");
  EXPECT_EQ(of("max(n)", {Value::boolean(false), Value::boolean(true)}), "true");
}

TEST(SetFunctions, FirstAndLastGoByTime) {
  const auto first = *SetFunction::parse("first(n)"), last = *SetFunction::parse("last(n)");
  Accumulator f, l;
  for (const std::int64_t time : {5, 3, 9, 3, 9, 4}) {
    f.add(first, Value::integer(time), time, 1);
    l.add(last, Value::integer(time), time, 1);
  }
  EXPECT_EQ(f.value(first).as_integer(), 3);
  EXPECT_EQ(l.value(last).as_integer(), 9);
}

TEST(DistinctSketch, IsExactForFewAndNearForMany) {
  for (const std::uint64_t n : {0u, 1u, 64u, 65u, 500u, 5000u, 200'000u}) {
    DistinctSketch a, b;
    for (std::uint64_t i = 0; i < n; ++i) {
      a.add(XXH3_64bits(&i, sizeof i));
      if (i % 2 == 0) b.add(XXH3_64bits(&i, sizeof i));
    }
    DistinctSketch both = b;
    both.merge(a);
    EXPECT_EQ(both.estimate(), a.estimate());
    EXPECT_EQ(a.exact(), n <= 64);
    const double off = n == 0 ? 0 : std::abs(static_cast<double>(a.estimate()) / static_cast<double>(n) - 1);
    EXPECT_LE(off, n <= 64 ? 0 : 0.1) << n << " " << a.estimate();
    EXPECT_LE(a.bytes(), 1024u);
  }
}

Node unique(const std::string& most = "100") {
  return map({{"by", list({"k"})},
              {"within", scalar("10s", false)},
              {"longest", scalar("60s", false)},
              {"most_keys", scalar(most, false)}});
}

TEST(Unique, LetsTheFirstPassByTheEventsTime) {
  Remembers u("unique", unique());
  EXPECT_EQ(u.turn({{"a", Value::integer(1), 100},
                    {"a", Value::integer(2), 109},
                    {"b", Value::integer(3), 100},
                    {"a", Value::integer(4), 110}}),
            (Texts{"a 1", "b 3", "a 4"}));
  EXPECT_EQ(u.tally.dropped, 1u);
  u.restart();
  EXPECT_EQ(
      u.turn({{"a", Value::integer(5), 119}, {"a", Value::integer(6), 101}, {"a", Value::integer(7), 100}}),
      Texts{"a 7"})
      << "what lies far enough before it is another one";
  EXPECT_EQ(u.turn({{"", Value::integer(8), 100}, {"", Value::integer(9), 100}}), (Texts{" 8", " 9"}));
}

// What is imported while newer events come is told apart by its own times.
TEST(Unique, AnOlderFileIsTreatedAsItWouldHaveBeen) {
  Remembers u("unique", unique());
  Texts passed = u.turn({{"a", Value::integer(0), 5000}});
  for (int i = 0; i < 30; ++i) {
    passed = u.turn({{"a", Value::integer(i), 100 + i}, {"a", Value::integer(i), 5000 + i}});
    EXPECT_EQ(passed.size(), i == 0 ? 1u : i % 10 == 0 ? 2u : 0u) << i;
    if (i % 7 == 0) u.restart();
  }
  for (int i = 0; i < 60; i += 5) u.turn({{"a", Value::integer(i), 100 * i}});
  EXPECT_EQ(u.kept.size(), 1u);
  u.restart();
}

TEST(Unique, ForgetsWhatWasNotSeenForLong) {
  Remembers u("unique", unique("2"));
  u.turn({{"a", Value::integer(1), 100}, {"b", Value::integer(1), 100}, {"c", Value::integer(1), 100}});
  EXPECT_EQ(u.tally.early, 1u);
  EXPECT_EQ(u.kept.size(), 2u);
  EXPECT_EQ(u.turn({{"b", Value::integer(1), 101}, {"a", Value::integer(2), 101}}), Texts{"a 2"})
      << "a was forgotten";
  u.now += 60 * kSecond;
  u.tick();
  EXPECT_TRUE(u.kept.empty());
  EXPECT_EQ(u.turn({{"b", Value::integer(3), 101}}), Texts{"b 3"});
  u.turn({}, Turn::Why::everything);
  EXPECT_TRUE(u.kept.empty());
}

}  // namespace
}  // namespace dingle
