#include "core/json_fields.h"

#include <gtest/gtest.h>

#include <bit>
#include <fstream>
#include <sstream>

#include "core/names.h"

namespace dingle {
namespace {

struct Members {
  Arena arena;
  std::vector<Field> fields;
  JsonCounts counts;
  std::string why;
  explicit Members(std::string_view text, JsonOptions options = {})
      : why(json_members(text, options, arena, fields, counts)) {}
  std::string text() const {
    std::string out = why;
    for (const Field& f : fields)
      out += (out.empty() ? "" : " ") + std::string(field_name(f.name)) + "=" + f.value.to_string();
    return out;
  }
};

// Each line: a number, and what it is: `int` (as it is written), the bits of the nearest double, or `text`.
// Computed with arbitrary precision elsewhere.
TEST(JsonNumbers, AreExactOrTheNearestDoubleOrTexts) {
  std::ifstream in(DINGLE_SOURCE "/tests/core/json_numbers.txt");
  std::string text, is;
  std::size_t tested = 0;
  for (; in >> text >> is; ++tested) {
    const Value v = json_number(text);
    if (is == "int")
      EXPECT_TRUE(v.kind() == Kind::integer && v.as_integer() == std::stoll(text)) << text;
    else if (is == "text")
      EXPECT_TRUE(v.kind() == Kind::text && v.as_text() == text) << text << " became " << v.to_string();
    else
      EXPECT_EQ(v.kind() == Kind::decimal ? std::bit_cast<std::uint64_t>(v.as_decimal()) : 1,
                std::stoull(is, nullptr, 16))
          << text;
    Members m("{\"n\":" + text + ",\"ship\":\"Tern\"}");
    ASSERT_EQ(m.fields.size(), 2u) << text << ": " << m.why;
    EXPECT_EQ(m.fields[0].value, v) << text;
    EXPECT_EQ(m.counts.as_text, v.kind() == Kind::text ? 1u : 0u) << text;
  }
  EXPECT_EQ(tested, 2000u);
}
TEST(JsonNumbers, WhatIsNoneIsNone) {
  for (const char* text :
       {"", "-", "01", "1.", ".5", "1e", "1e+", "+1", "0x1", "--1", "NaN", "1.e5", "1_0"}) {
    EXPECT_TRUE(json_number(text).absent()) << text;
    EXPECT_NE(Members("{\"n\":" + std::string(text) + "}").why, "") << text;
  }
}

struct OneText {
  const char *json, *fields;
  std::uint64_t as_text = 0;
};
class JsonMembers : public testing::TestWithParam<OneText> {};
TEST_P(JsonMembers, AreThese) {
  Members m(GetParam().json);
  EXPECT_EQ(m.text(), GetParam().fields);
  EXPECT_EQ(m.counts.as_text, GetParam().as_text);
}
INSTANTIATE_TEST_SUITE_P(
    Texts, JsonMembers,
    testing::Values(
        // One odd member does not cost the others.
        OneText{R"({"a":"\ud800","b":1})", "a=\uFFFD b=1", 1},
        OneText{R"({"a":"x\udc00y","b":1})", "a=x\uFFFDy b=1", 1}, OneText{R"({"a":"\ud83d\ude00"})", "a=😀"},
        OneText{R"({"a":"\ud83d\u0041"})", "a=\uFFFDA", 1}, OneText{R"({"a":"\x","b":1})", R"(a=\x b=1)", 1},
        OneText{R"({"a":"\u12","b":1})", R"(a=\u12 b=1)", 1}, OneText{R"({"\ud800k":1})", "\uFFFDk=1", 1},
        OneText{R"({"n":1e400,"b":1})", "n=1e400 b=1", 1},
        OneText{R"({"a":"\"\\\/\b\f\n\r\té"})", "a=\"\\/\b\f\n\r\té"},
        OneText{R"({"l":[1e400,"\ud800",18446744073709551616]})",
                "l=[\"1e400\",\"\uFFFD\",\"18446744073709551616\"]", 3},
        OneText{"{\"l\": [ 1 ,\n\t2 ], \"m\":{} }", "l=[1,2]"},
        // Names that belong to the event itself.
        OneText{
            R"({"body":"x","timestamp":5,"observed_timestamp":6,"dingle":{"pipeline":"p","id":7},"bodyguard":8})",
            "line.body=x line.timestamp=5 line.observed_timestamp=6 line.dingle.pipeline=p line.dingle.id=7 "
            "bodyguard=8"}));

// Lists and inner objects are checked as a whole, since they are written out as they stand.
TEST(JsonMembers, UnsoundListsAreToldNotTaken) {
  for (const char* list : {"[1,]", "[,1]", "[1 2]", "[tru]", "[\"\\x\"]", "{\"a\"}", "{\"a\":}", "{a:1}",
                           "[01]", "[1}", "{\"a\":1,}", "[\"a\x01\"]", "[", "[\"", "{\"a\":1]"}) {
    Members m("{\"k\":" + std::string(list) + "}", {.depth = 1});
    EXPECT_NE(m.why, "") << list;
    EXPECT_TRUE(json_value(list, m.arena).absent()) << list;
  }
}

std::string nested(std::size_t levels, bool objects) {
  std::string text;
  for (std::size_t i = 0; i < levels; ++i) text += objects ? "{\"a\":" : "[";
  text += "1";
  for (std::size_t i = 0; i < levels; ++i) text += objects ? '}' : ']';
  return text;
}
TEST(JsonDepth, IsBoundedWithAPlainReason) {
  for (const bool objects : {false, true})
    for (const std::int64_t depth : {1, 8, 128, 1'000'000}) {
      const JsonOptions options{.depth = depth};
      EXPECT_EQ(Members("{\"v\":" + nested(100, objects) + "}", options).why, "") << objects << depth;
      for (const std::size_t levels : {300u, 60'000u, 500'000u}) {
        EXPECT_EQ(Members("{\"v\":" + nested(levels, objects) + "}", options).why,
                  "it is nested deeper than 128 levels");
        EXPECT_NE(Members("{\"v\":" + std::string(levels, '[') + "}", options).why, "");
        Arena arena;
        EXPECT_TRUE(json_value(nested(levels, objects), arena).absent());
        std::string_view why;
        const std::string text = nested(levels, objects);
        EXPECT_EQ(json_end(text.data(), text.data() + text.size(), why), nullptr);
        EXPECT_EQ(why, "it is nested deeper than 128 levels");
      }
    }
}

TEST(JsonValue, OfEveryKind) {
  Arena arena;
  EXPECT_EQ(json_value(" \"a\\u00e9\" ", arena).as_text(), "aé");
  EXPECT_EQ(json_value("[ 1, {\"a\": 2} ]", arena).as_text(), "[1,{\"a\":2}]");
  EXPECT_EQ(json_value("0.33333333333333333333", arena).as_decimal(), 1.0 / 3);
  EXPECT_TRUE(json_value("true", arena).as_boolean());
  for (const char* text : {"null", "", " ", "[1] x", "\"a", "\"\xff\"", "[\"\xff\"]"})
    EXPECT_TRUE(json_value(text, arena).absent()) << text;
}

}  // namespace
}  // namespace dingle
