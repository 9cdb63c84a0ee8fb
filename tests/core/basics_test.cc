// The small things that everything stands on.
#include <gtest/gtest.h>

#include <algorithm>
#include <random>
#include <thread>

#include "core/arena.h"
#include "core/bytes.h"
#include "core/condition/words.h"
#include "core/event.h"
#include "core/names.h"
#include "core/severity.h"
#include "core/template/lexemes.h"
#include "core/template/template.h"

namespace dingle {
namespace {

TEST(Names, SameNameSameIdInEveryThread) {
  const FieldId id = field_id("client.address");
  EXPECT_EQ(field_name(id), "client.address");
  std::vector<std::thread> threads;
  for (int t = 0; t < 4; ++t)
    threads.emplace_back([&] {
      for (int i = 0; i < 500; ++i)
        EXPECT_EQ(field_name(field_id("name" + std::to_string(i))), "name" + std::to_string(i));
      EXPECT_EQ(field_id("client.address"), id);
    });
  for (auto& t : threads) t.join();
  EXPECT_EQ(field_id(""), kNoField);
  EXPECT_EQ(field_id(std::string(300, 'x')), kNoField);
}

TEST(Bytes, WhatIsWrittenIsRead) {
  std::mt19937_64 random(2);
  std::string out;
  ByteWriter w(out);
  std::vector<std::uint64_t> numbers;
  for (int i = 0; i < 200; ++i) numbers.push_back(random() >> (random() % 64));
  for (std::uint64_t n : numbers)
    w.varint(n), w.zigzag(static_cast<std::int64_t>(n)), w.u64(n), w.text(std::to_string(n));
  ByteReader r(out);
  for (std::uint64_t n : numbers) {
    EXPECT_EQ(r.varint(), n);
    EXPECT_EQ(r.zigzag(), static_cast<std::int64_t>(n));
    EXPECT_EQ(r.u64(), n);
    EXPECT_EQ(r.text(), std::to_string(n));
  }
  EXPECT_TRUE(r.ok() && r.at_end());
}

TEST(Bytes, ReadersNeverGoBeyondTheEnd) {
  for (const std::string& bytes : {std::string("\xff\xff\xff\xff\xff\xff\xff\xff\xff\xff\xff", 11),
                                   std::string("\x7f"
                                               "abc"),
                                   std::string("\x80"), std::string()}) {
    ByteReader r(bytes);
    while (r.ok()) r.text();
    EXPECT_TRUE(r.at_end());
    EXPECT_EQ(r.u32(), 0u);
    EXPECT_EQ(r.varint(), 0u);
  }
  ByteReader counted(
      "\x05"
      "ab");
  EXPECT_EQ(counted.count(), 0u);
  EXPECT_FALSE(counted.ok());
}

TEST(Arena, PiecesDoNotOverlapAndStay) {
  Arena arena;
  std::vector<std::string_view> views;
  for (int i = 0; i < 5000; ++i)
    views.push_back(
        arena.copy(std::string(static_cast<std::size_t>(i % 300), static_cast<char>('a' + i % 26))));
  views.push_back(arena.copy(std::string(500'000, 'z')));
  for (int i = 0; i < 5000; ++i)
    ASSERT_EQ(views[static_cast<std::size_t>(i)],
              std::string(static_cast<std::size_t>(i % 300), static_cast<char>('a' + i % 26)));
  EXPECT_EQ(views.back().size(), 500'000u);
}

TEST(Event, SetReplacesEraseShifts) {
  Arena arena;
  Event e;
  for (int i = 0; i < 20; ++i)
    EXPECT_TRUE(e.set(arena, field_id("f" + std::to_string(i)), Value::integer(i)));
  EXPECT_TRUE(e.set(arena, field_id("f3"), Value::text("three")));
  EXPECT_TRUE(e.erase(arena, field_id("f0")));
  EXPECT_FALSE(e.erase(arena, field_id("f0")));
  EXPECT_EQ(e.field_count, 19);
  EXPECT_EQ(e.find(field_id("f3"))->value.to_string(), "three");
  EXPECT_EQ(e.find(field_id("f19"))->value, Value::integer(19));
  EXPECT_FALSE(e.set(arena, kNoField, Value::integer(1)));
}

TEST(Batch, OwnFieldsHideTheResource) {
  Batch batch;
  std::vector<Field> resource{{field_id("host.name"), Value::text("quay")},
                              {field_id("zone"), Value::text("north")}};
  const std::span<const Field> resources[] = {resource};
  batch.resources = resources;
  Event e;
  e.body = "line";
  e.timestamp = 5;
  e.set(batch.arena, field_id("host.name"), Value::text("bridge"));
  EXPECT_EQ(batch.get(e, field_id("host.name")).to_string(), "bridge");
  EXPECT_EQ(batch.get(e, field_id("zone")).to_string(), "north");
  EXPECT_EQ(batch.get(e, names::body).to_string(), "line");
  EXPECT_EQ(batch.get(e, names::timestamp), Value::timestamp(5));
  EXPECT_TRUE(batch.get(e, field_id("nothing")).absent());
}

struct ValueCase {
  Value value;
  const char *text, *json;
};
class Values : public testing::TestWithParam<ValueCase> {};
TEST_P(Values, AsTextAndJson) {
  std::string json;
  GetParam().value.append_json(json);
  EXPECT_EQ(GetParam().value.to_string(), GetParam().text);
  EXPECT_EQ(json, GetParam().json);
}
INSTANTIATE_TEST_SUITE_P(Kinds, Values,
                         testing::Values(ValueCase{Value(), "", "null"},
                                         ValueCase{Value::integer(-5), "-5", "-5"},
                                         ValueCase{Value::decimal(0.1), "0.1", "0.1"},
                                         ValueCase{Value::decimal(1e300), "1e+300", "1e+300"},
                                         ValueCase{Value::decimal(0.0 / 0.0), "null", "null"},
                                         ValueCase{Value::boolean(true), "true", "true"},
                                         ValueCase{Value::text("a\"b"), "a\"b", "\"a\\\"b\""},
                                         ValueCase{Value::timestamp(1'500'000'000),
                                                   "1970-01-01T00:00:01.500Z",
                                                   "\"1970-01-01T00:00:01.500Z\""},
                                         ValueCase{Value::ip("192.0.2.1"), "192.0.2.1", "\"192.0.2.1\""},
                                         ValueCase{Value::list("[1]"), "[1]", "[1]"}));

TEST(Words, OfALine) {
  std::vector<std::string> words;
  for_each_word("GET /gate/7?x=\"\xC3\xA5-b\"", [&](std::string_view w) { words.emplace_back(w); });
  EXPECT_EQ(words, (std::vector<std::string>{"GET", "gate", "7", "x", "\xC3\xA5", "b"}));
}

// Against looking at every place.
TEST(Words, ATextIsFoundWhereverItStandsAndInEitherCase) {
  std::mt19937 random(3);
  const auto text_of = [&](std::size_t size) {
    std::string text(size, ' ');
    for (char& c : text) c = "aAbB@`[{ \xC3\x01z"[random() % 12];
    return text;
  };
  const auto make_lower = [](std::string& text) {
    std::transform(text.begin(), text.end(), text.begin(), lower_ascii);
  };
  int found = 0;
  for (int i = 0; i < 20'000; ++i) {
    const std::string text = text_of(random() % 70);
    const bool of_text = i % 2 == 0 && !text.empty();
    std::string word = of_text ? text.substr(random() % text.size(), random() % 40) : text_of(random() % 5);
    std::string lower = text;
    make_lower(word);
    make_lower(lower);
    const bool expected = lower.find(word) != std::string::npos;
    found += expected;
    ASSERT_EQ(contains_folded(text, word), expected) << text << " / " << word;
  }
  EXPECT_GT(found, 5'000);
}

TEST(Words, PiecesNeedBordersOnlyWhereTheyEndInWords) {
  EXPECT_TRUE(WordQuery("berth").all_in("a BERTH, free"));
  EXPECT_FALSE(WordQuery("berth").all_in("berths"));
  EXPECT_TRUE(WordQuery("/gate").all_in("x/gate/7"));
  EXPECT_FALSE(WordQuery("/gat").all_in("x/gate/7"));
  EXPECT_TRUE(WordQuery("b a").all_in("a b"));
  EXPECT_EQ(WordQuery("...").pieces(), 0u);
}

struct SeverityCase {
  const char* word;
  int number;  // 0: none
};
class Severities : public testing::TestWithParam<SeverityCase> {};
TEST_P(Severities, HaveTheNumbersOfOpenTelemetry) {
  int number = 0;
  EXPECT_EQ(severity_number_of(GetParam().word, number), GetParam().number != 0) << GetParam().word;
  EXPECT_EQ(number, GetParam().number);
}
INSTANTIATE_TEST_SUITE_P(Words, Severities,
                         testing::Values(SeverityCase{"TRACE", 1}, SeverityCase{"debug", 5},
                                         SeverityCase{"Info", 9}, SeverityCase{"informational", 9},
                                         SeverityCase{"NOTICE", 10}, SeverityCase{"warn", 13},
                                         SeverityCase{"WARNING", 13}, SeverityCase{"err", 17},
                                         SeverityCase{"SEVERE", 17}, SeverityCase{"crit", 18},
                                         SeverityCase{"alert", 19}, SeverityCase{"FATAL", 21},
                                         SeverityCase{"panic", 21}, SeverityCase{"", 0},
                                         SeverityCase{"infos", 0}, SeverityCase{"loud", 0}));

TEST(Severities, MayBeSyslogsNumbers) {
  const int numbers[] = {21, 19, 18, 17, 13, 10, 9, 5};
  for (int i = 0; i < 8; ++i) {
    EXPECT_EQ(severity_number(Value::integer(i)), Value::integer(numbers[i]));
    const std::string text = std::to_string(i);
    EXPECT_EQ(severity_number(Value::text(text)), Value::integer(numbers[i]));
  }
  EXPECT_EQ(severity_number(Value::text("Warning")), Value::integer(13));
  for (const Value& none : {Value::integer(8), Value::integer(-1), Value::text("30"), Value::text(""),
                            Value::decimal(3), Value()})
    EXPECT_TRUE(severity_number(none).absent()) << none.to_string();
}

struct ConvertCase {
  const char* text;
  Kind kind;
  const char* expected;  // "" : absent
};
class Conversions : public testing::TestWithParam<ConvertCase> {};
TEST_P(Conversions, TakeTheWholeText) {
  EXPECT_EQ(convert_text(GetParam().text, GetParam().kind, {}).to_string(), GetParam().expected);
}
INSTANTIATE_TEST_SUITE_P(
    Texts, Conversions,
    testing::Values(ConvertCase{"42", Kind::integer, "42"}, ConvertCase{"42x", Kind::integer, ""},
                    ConvertCase{"", Kind::integer, ""}, ConvertCase{"4.5", Kind::decimal, "4.5"},
                    ConvertCase{"yes", Kind::boolean, "true"},
                    ConvertCase{"192.0.2.1", Kind::ip, "192.0.2.1"}, ConvertCase{"192.0.2", Kind::ip, ""},
                    ConvertCase{"2026-11-23", Kind::timestamp, ""},
                    ConvertCase{"2026-11-23T00:00:00Z", Kind::timestamp, "2026-11-23T00:00:00Z"},
                    ConvertCase{"x", Kind::text, "x"}));

TEST(Addresses, OneAddressInManySpellings) {
  unsigned char a[16], b[16];
  ASSERT_TRUE(parse_ip("2001:db8::7", a));
  ASSERT_TRUE(parse_ip("2001:0DB8:0:0:0:0:0:7", b));
  EXPECT_EQ(std::string(a, a + 16), std::string(b, b + 16));
  for (const char* bad : {"", "1.2.3", "1.2.3.4.5", "256.1.1.1", "::1::", "gate", "01.2.3.4"})
    EXPECT_FALSE(parse_ip(bad, a)) << bad;
}

}  // namespace
}  // namespace dingle
