#include "core/condition/condition.h"

#include <gtest/gtest.h>

#include <limits>
#include <map>

#include "core/condition/tree.h"
#include "core/time/instant.h"

namespace dingle {
namespace {

class Fields final : public FieldReader {
 public:
  Fields() {
    const auto at = parse_moment("2026-11-23T10:00:00Z", 0);
    values = {{"status", Value::integer(503)},
              {"ratio", Value::decimal(0.5)},
              {"user", Value::text("kestrel")},
              {"url.path", Value::text("/gate/7")},
              {"ok", Value::boolean(true)},
              {"client.address", Value::ip("2001:db8::7")},
              {"code", Value::text("404")},
              {"at", Value::timestamp(*at)},
              {"big", Value::integer(9007199254740993)},
              {"near", Value::decimal(9007199254740992.0)},
              {"bigtext", Value::text("9007199254740993")},
              {"ago", Value::text("15m")},
              {"yes", Value::text("true")},
              {"odd", Value::text("it's")},
              {"accent", Value::text("B\u00e4rth")},
              {"percent", Value::text("50%")},
              {"since", Value::text("2026-11-23T00:00:00Z")},
              {"wide", Value::text("0000000000000000000000000000000000000000404")},
              {"far", Value::decimal(1e19)},
              {"deep", Value::decimal(-1e19)},
              {"nan", Value::decimal(std::numeric_limits<double>::quiet_NaN())},
              {"body", Value::text("GET /gate/7 refused: Ticket-9")}};
  }
  Value get(FieldId field) const override {
    auto it = values.find(field_name(field));
    return it == values.end() ? Value() : it->second;
  }
  bool any_text(const std::function<bool(std::string_view)>& test) const override {
    for (const auto& [name, value] : values)
      if (value.is_textual() && test(value.as_text())) return true;
    return false;
  }
  std::map<std::string, Value, std::less<>> values;
};

struct Case {
  const char* text;
  Truth expected;
};
class ConditionEvaluates : public testing::TestWithParam<Case> {};
TEST_P(ConditionEvaluates, AsInSql) {
  auto c = Condition::parse(GetParam().text);
  ASSERT_TRUE(c) << GetParam().text << ": " << c.problem().message;
  EXPECT_EQ(c->evaluate(Fields()), GetParam().expected) << GetParam().text;
}
constexpr Truth yes = Truth::yes, no = Truth::no, unknown = Truth::unknown;

INSTANTIATE_TEST_SUITE_P(
    Comparisons, ConditionEvaluates,
    testing::Values(
        Case{"status = 503", yes}, Case{"status <> 503", no}, Case{"status >= 500", yes},
        Case{"status < 500", no}, Case{"status = 503.0", yes}, Case{"status = '503'", yes},
        Case{"status = 'abc'", unknown}, Case{"ratio > 0", yes}, Case{"ratio <= .5", yes},
        Case{"user = 'kestrel'", yes}, Case{"user > 'a'", yes}, Case{"user = 5", unknown},
        Case{"code = 404", yes}, Case{"code > 400", yes}, Case{"client.address = '2001:db8:0::7'", yes},
        Case{"client.address = '192.0.2.1'", no}, Case{"at > '2026-11-23'", yes},
        Case{"at = timestamp '2026-11-23 10:00:00'", yes}, Case{"at < '2026-11-23T10:00:00Z'", no},
        Case{"status > code", yes}, Case{"\"url.path\" = '/gate/7'", yes}, Case{"ok", yes},
        Case{"not ok", no}, Case{"ok = true", yes}, Case{"ok = false", no},
        // Beyond 2^53 a double cannot hold every integer.
        Case{"big = 9007199254740993", yes}, Case{"big = 9007199254740992.0", no},
        Case{"big > 9007199254740992.0", yes}, Case{"big = '9007199254740993'", yes},
        Case{"big = '9007199254740992'", no}, Case{"big < 1e300", yes}, Case{"big > -1e300", yes},
        Case{"big > near", yes}, Case{"near < big", yes}, Case{"near = 9007199254740993", no},
        Case{"bigtext = 9007199254740993", yes}, Case{"bigtext = 9007199254740992", no},
        Case{"status > 502.5", yes}, Case{"status < 503.5", yes}, Case{"status = 503.5", no},
        Case{"ratio = 0.5", yes}, Case{"ratio <> 0.5", no}, Case{"ratio < 1", yes}, Case{"ratio > 1", no},
        Case{"ratio >= 5e-1", yes}, Case{"ratio = '0.5'", yes}, Case{"ratio = 'half'", unknown},
        Case{"ratio < status", yes}, Case{"status > ratio", yes}, Case{"ratio = ratio", yes},
        Case{"status < status", no}, Case{"status = user", unknown}, Case{"user = status", unknown},
        Case{"user < 'l'", yes}, Case{"user <= 'kestrel'", yes}, Case{"user >= 'kestrel'", yes},
        Case{"user < 'kestrel'", no}, Case{"user <> 'tern'", yes}, Case{"status <= 503", yes},
        Case{"status > 503", no}, Case{"status <> 502", yes}, Case{"code < 405", yes},
        Case{"code = 404.0", yes}, Case{"code <> 404", no}, Case{"client.address = client.address", yes},
        Case{"client.address > '2001:db8::6'", yes}, Case{"client.address < '2001:db8::8'", yes},
        Case{"client.address = 'kestrel'", no}, Case{"client.address = 7", unknown},
        Case{"at = user", unknown}, Case{"at = 5", unknown}, Case{"at = 'soon'", unknown},
        Case{"ok < true", no}, Case{"ok > false", yes}, Case{"ok = 1", unknown},
        Case{"since = timestamp '2026-11-23'", yes}, Case{"since < timestamp '2026-11-23'", no},
        Case{"wide = 404", unknown}, Case{"far > 9223372036854775807", yes}, Case{"big < far", yes},
        Case{"far > big", yes}, Case{"deep < -9223372036854775807", yes}, Case{"big > deep", yes},
        Case{"nan = nan", unknown}, Case{"nan = 1", unknown}, Case{"big > nan", unknown},
        Case{"at >= timestamp", unknown}, Case{"timestamp <= at", unknown},
        // A text that is a duration is no time.
        Case{"ago > timestamp '1960-01-01'", unknown}, Case{"ago < timestamp '1990-01-01'", unknown}));

INSTANTIATE_TEST_SUITE_P(
    Nulls, ConditionEvaluates,
    testing::Values(Case{"missing = 1", unknown}, Case{"missing <> 1", unknown},
                    Case{"not missing = 1", unknown}, Case{"missing is null", yes},
                    Case{"user is not null", yes}, Case{"missing is not null", no}, Case{"missing", unknown},
                    Case{"not missing", unknown}, Case{"missing is not true", yes}, Case{"user", unknown},
                    Case{"missing = 1 or status = 503", yes}, Case{"missing = 1 and status = 503", unknown},
                    Case{"missing = 1 and status = 1", no}, Case{"missing in (1, 2)", unknown},
                    Case{"missing like '%'", unknown}, Case{"ok is true", yes}, Case{"ok is not true", no},
                    Case{"missing is unknown", yes}, Case{"ok is unknown", no}, Case{"ok is false", no},
                    Case{"ok is not false", yes}, Case{"missing is true", no}, Case{"user is null", no},
                    Case{"missing = user", unknown}, Case{"user = missing", unknown},
                    Case{"missing between 1 and 2", unknown}, Case{"missing matches 'x'", unknown},
                    Case{"missing mentions 'x'", unknown}, Case{"yes is true", yes}, Case{"yes", yes},
                    Case{"yes = true", unknown}, Case{"ok = 'true'", yes}, Case{"ok = 'yes'", unknown},
                    Case{"user in (1, 2)", unknown}, Case{"user in (1, 'tern')", no}));

INSTANTIATE_TEST_SUITE_P(
    Predicates, ConditionEvaluates,
    testing::Values(
        Case{"status in (502, 503)", yes}, Case{"status not in (502, 503)", no},
        Case{"user in ('tern', 'kestrel')", yes}, Case{"status between 500 and 599", yes},
        Case{"status not between 500 and 599", no}, Case{"status between 503 and 503", yes},
        Case{"status between 504 and 600", no}, Case{"status between 100 and 502", no},
        Case{"status in (502)", no}, Case{"status in (+503)", yes}, Case{"status in (503.0)", yes},
        Case{"odd = '-.5e1'", no}, Case{"odd = 'it''s'", yes}, Case{"\"odd\" = 'it''s'", yes},
        Case{"accent like 'B_rth'", yes}, Case{"accent like 'B__rth'", no}, Case{"user like 'kes%rel'", yes},
        Case{"user like '%'", yes}, Case{"user like ''", no}, Case{"user like 'kestrel%'", yes},
        Case{"user like 'kestrel_'", no}, Case{"user like '%!%' escape '!'", no},
        Case{"percent like '50!%' escape '!'", yes}, Case{"percent like '5!_%' escape '!'", no},
        Case{"percent like '%!%' escape '!'", yes}, Case{"body like '%Ticket-_'", yes},
        Case{"body like '%Ticket-'", no}, Case{"body like '%gate%refused%'", yes},
        Case{"body like '%refused%gate%'", no}, Case{"ratio like '0.5'", yes},
        Case{"status matches '^503$'", yes}, Case{"url.path like '/gate/%'", yes},
        Case{"url.path like '/gate/_'", yes}, Case{"url.path like '/gate'", no},
        Case{"url.path not like '%7'", no}, Case{"url.path like '%/%/%'", yes},
        Case{"user like 'k!_%' escape '!'", no}, Case{"user like 'k!!%!%' escape '!'", no},
        Case{"url.path matches '/\\d$'", yes}, Case{"url.path matches '^gate'", no},
        Case{"user not matches 'z'", yes}, Case{"status like '5%'", yes}, Case{"mentions 'refused'", yes},
        Case{"mentions 'REFUSED gate'", yes}, Case{"mentions 'refuse'", no}, Case{"mentions 'ticket-9'", yes},
        Case{"mentions '/gate/7'", yes}, Case{"body mentions 'get'", yes}, Case{"user mentions 'get'", no},
        Case{"mentions '\"refused:  ticket-9\"'", yes}, Case{"mentions '\"gate refused\"'", no},
        Case{"body mentions '\"GET /gate\"'", yes}, Case{"mentions '\"get\" kestrel'", yes},
        Case{"mentions 'refu*'", yes}, Case{"mentions 'efused*'", no}, Case{"mentions 'refused*'", yes},
        Case{"mentions '\"refused: tick*\"'", yes}, Case{"mentions '\"refused: ick*\"'", no},
        Case{"mentions 're*fused'", no}, Case{"mentions '\"kestrel refused\"'", no},
        Case{"mentions 'kestrel refused'", yes}));

INSTANTIATE_TEST_SUITE_P(Logic, ConditionEvaluates,
                         testing::Values(Case{"status = 1 or status = 2 and ok or user = 'kestrel'", yes},
                                         Case{"status = 1 and ok", no}, Case{"ok and status = 1", no},
                                         Case{"ok or status = 1", yes}, Case{"status = 1 or ok", yes},
                                         Case{"ok or missing", yes}, Case{"status = 1 and missing", no},
                                         Case{"ok and missing", unknown}, Case{"missing and ok", unknown},
                                         Case{"status = 1 or missing", unknown},
                                         Case{"missing or status = 1", unknown}, Case{"not (ok and ok)", no},
                                         Case{"not not ok", yes}, Case{"ok and not status = 1", yes},
                                         Case{"false", no}, Case{"(status = 1 or ok) and status = 2", no},
                                         Case{"not (status = 1 or status = 2)", yes},
                                         Case{"NOT status = 1 AND ok", yes}, Case{"true", yes},
                                         Case{"false or ok", yes}));

struct BadCase {
  const char* text;
  std::size_t offset;
  const char* part;
};
class RefusedCondition : public testing::TestWithParam<BadCase> {};
TEST_P(RefusedCondition, WithPlaceAndHint) {
  auto c = Condition::parse(GetParam().text);
  ASSERT_FALSE(c) << GetParam().text;
  EXPECT_EQ(c.problem().offset, GetParam().offset) << c.problem().message;
  EXPECT_NE((c.problem().message + " " + c.problem().hint).find(GetParam().part), std::string::npos)
      << c.problem().message << " " << c.problem().hint;
}
INSTANTIATE_TEST_SUITE_P(
    Conditions, RefusedCondition,
    testing::Values(
        BadCase{"", 0, "empty"}, BadCase{"status == 3", 7, "single ="}, BadCase{"status != 3", 7, "<>"},
        BadCase{"status >= 500 adn ok", 14, "did you mean `and`"}, BadCase{"status:500", 6, "SQL"},
        BadCase{"status = ", 9, "a value"}, BadCase{"status = 'x", 9, "closing quote"},
        BadCase{"(ok", 3, "`)`"}, BadCase{"a = null", 4, "is null"}, BadCase{"status in 5", 10, "`(`"},
        BadCase{"user lik 'x'", 5, "did you mean `like`"}, BadCase{"user matches '('", 15, "regex"},
        BadCase{"mentions ''", 9, "word"}, BadCase{"mentions 'a \"b'", 12, "double quote"},
        BadCase{"mentions '*'", 9, "word"}, BadCase{"'x'", 0, "field"}, BadCase{"a = 1 && b = 2", 6, "`and`"},
        BadCase{"ok is nul", 6, "`null`"}, BadCase{"status = 1x", 10, "and"},
        BadCase{"user like 'a!b' escape '!'", 10, "ISO 9075"},
        BadCase{"user like 'a!' escape '!'", 10, "ISO 9075"}, BadCase{"user not = 'x'", 9, "`in`, `between`"},
        BadCase{"ok ok", 3, "comparison"}, BadCase{"ok or", 5, "field's name"},
        BadCase{"not", 3, "field's name"}, BadCase{"ok and or", 7, "field's name"},
        BadCase{"(ok))", 4, "`and`"}, BadCase{"! ok", 0, "`not`"},
        BadCase{"a = 1 || b = 2", 11, "writes `or`"}, BadCase{"a is null || b", 10, "`or`"},
        BadCase{"status between 1 or 2", 17, "`and` and the upper"},
        BadCase{"status in (1 2)", 13, "`,` or `)`"}, BadCase{"status in ()", 11, "a value"},
        BadCase{"user like 5", 10, "single quotes"},
        BadCase{"user like 'x' escape 'ab'", 21, "one character"}, BadCase{"user matches 5", 13, "regex"},
        BadCase{"mentions 5", 9, "words"}, BadCase{"a = timestamp 'soon'", 14, "time in quotes"},
        BadCase{"a = 1.2.3", 4, "not a number"}, BadCase{"a = -", 5, "a value"},
        BadCase{"\"a = 1", 0, "closing quote"}, BadCase{"a = 1; b", 5, "unexpected"},
        BadCase{"select = 1 = 2", 11, "`and`"}, BadCase{"in = 1", 0, "field's name"},
        BadCase{"ok is not", 9, "`null`"}, BadCase{"timestamp > 'now'", 12, "--since"},
        BadCase{"observed_timestamp > '15m'", 21, "--since"}, BadCase{"timestamp > '15m'", 12, "--since"},
        BadCase{"at > timestamp 'now'", 15, "--since"}));

TEST(Condition, DeepNestingIsRefusedNotRecursedInto) {
  auto nested = [](std::size_t n) { return std::string(n, '(') + "ok" + std::string(n, ')'); };
  EXPECT_TRUE(Condition::parse(nested(kDeepestCondition)));
  EXPECT_FALSE(Condition::parse(nested(kDeepestCondition + 1)));
  EXPECT_FALSE(Condition::parse(std::string(5000, '(') + "ok" + std::string(5000, ')')));
}

TEST(Condition, TellsWhatBlocksMustHave) {
  auto c =
      Condition::parse("status >= 500 and (a = 1 or b = 2) and user = 'Kestrel' and mentions 'no berth'");
  ASSERT_TRUE(c);
  EXPECT_EQ(c->bounds().size(), 2u);
  EXPECT_EQ(c->required_words(), (std::vector<std::string>{"kestrel", "no", "berth"}));
  EXPECT_EQ(c->fields().size(), 4u);
  EXPECT_TRUE(c->reads_all_texts());
  EXPECT_FALSE(Condition::parse("body mentions 'berth'")->reads_all_texts());
  // What may be written in several ways, or need not hold at all, demands no word.
  for (const char* free : {"a = '007'", "a = '2026-11-23'", "a = '192.0.2.7'", "a = 'true'", "a <> 'Kestrel'",
                           "a = 'x' or b = 'y'", "not a = 'x'", "a in ('x')"})
    EXPECT_TRUE(Condition::parse(free)->required_words().empty()) << free;
  EXPECT_EQ(Condition::parse("n between 2 and 5")->bounds().size(), 2u);
  EXPECT_TRUE(Condition::parse("a = b or a = 1")->bounds().empty());
}

TEST(Condition, OneThatIsTooLongIsRefused) {
  const std::string ok = "ok" + std::string(kLongestCondition - 2, ' ');
  EXPECT_TRUE(Condition::parse(ok));
  EXPECT_FALSE(Condition::parse(ok + " "));
}

TEST(Words, EndWithTheirText) {
  const std::string_view buffer = "tern   auk berth";
  EXPECT_TRUE(WordQuery("\"tern auk\"").all_in(buffer));
  EXPECT_FALSE(WordQuery("\"tern auk\"").all_in(buffer.substr(0, 7))) << "the rest is another's";
  EXPECT_FALSE(WordQuery("berth").all_in(buffer.substr(0, 15)));
  EXPECT_TRUE(WordQuery("bert*").all_in(buffer.substr(0, 15)));
  EXPECT_EQ(WordQuery("a-b \"c d\" e*").words(), (std::vector<std::string>{"a", "b", "c", "d"}));
}

TEST(Condition, LikeIsBoundedOnHardPatterns) {
  std::string pattern;
  for (int i = 0; i < 50; ++i) pattern += "%a";
  auto c = Condition::parse("body like '" + pattern + "b'");
  ASSERT_TRUE(c);
  Fields fields;
  const std::string text(20000, 'a');
  fields.values["body"] = Value::text(text);
  EXPECT_EQ(c->evaluate(fields), Truth::no);
}

}  // namespace
}  // namespace dingle
