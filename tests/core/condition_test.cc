#include "core/condition/condition.h"

#include <gtest/gtest.h>

#include <map>

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
    testing::Values(Case{"status = 503", yes}, Case{"status <> 503", no}, Case{"status >= 500", yes},
                    Case{"status < 500", no}, Case{"status = 503.0", yes}, Case{"status = '503'", yes},
                    Case{"status = 'abc'", unknown}, Case{"ratio > 0", yes}, Case{"ratio <= .5", yes},
                    Case{"user = 'kestrel'", yes}, Case{"user > 'a'", yes}, Case{"user = 5", unknown},
                    Case{"code = 404", yes}, Case{"code > 400", yes},
                    Case{"client.address = '2001:db8:0::7'", yes}, Case{"client.address = '192.0.2.1'", no},
                    Case{"at > '2026-11-23'", yes}, Case{"at = timestamp '2026-11-23 10:00:00'", yes},
                    Case{"at < '2026-11-23T10:00:00Z'", no}, Case{"status > code", yes},
                    Case{"\"url.path\" = '/gate/7'", yes}, Case{"ok", yes}, Case{"not ok", no},
                    Case{"ok = true", yes}, Case{"ok = false", no},
                    // Beyond 2^53 a double cannot hold every integer.
                    Case{"big = 9007199254740993", yes}, Case{"big = 9007199254740992.0", no},
                    Case{"big > 9007199254740992.0", yes}, Case{"big = '9007199254740993'", yes},
                    Case{"big = '9007199254740992'", no}, Case{"big < 1e300", yes}, Case{"big > -1e300", yes},
                    Case{"big > near", yes}, Case{"near < big", yes}, Case{"near = 9007199254740993", no},
                    Case{"bigtext = 9007199254740993", yes}, Case{"bigtext = 9007199254740992", no},
                    Case{"status > 502.5", yes}, Case{"status < 503.5", yes}, Case{"status = 503.5", no},
                    Case{"at >= timestamp", unknown}, Case{"timestamp <= at", unknown},
                    // A text that is a duration is no time.
                    Case{"ago > timestamp '1960-01-01'", unknown},
                    Case{"ago < timestamp '1990-01-01'", unknown}));

INSTANTIATE_TEST_SUITE_P(
    Nulls, ConditionEvaluates,
    testing::Values(Case{"missing = 1", unknown}, Case{"missing <> 1", unknown},
                    Case{"not missing = 1", unknown}, Case{"missing is null", yes},
                    Case{"user is not null", yes}, Case{"missing is not null", no}, Case{"missing", unknown},
                    Case{"not missing", unknown}, Case{"missing is not true", yes}, Case{"user", unknown},
                    Case{"missing = 1 or status = 503", yes}, Case{"missing = 1 and status = 503", unknown},
                    Case{"missing = 1 and status = 1", no}, Case{"missing in (1, 2)", unknown},
                    Case{"missing like '%'", unknown}, Case{"ok is true", yes}, Case{"ok is not true", no},
                    Case{"missing is unknown", yes}));

INSTANTIATE_TEST_SUITE_P(
    Predicates, ConditionEvaluates,
    testing::Values(Case{"status in (502, 503)", yes}, Case{"status not in (502, 503)", no},
                    Case{"user in ('tern', 'kestrel')", yes}, Case{"status between 500 and 599", yes},
                    Case{"status not between 500 and 599", no}, Case{"url.path like '/gate/%'", yes},
                    Case{"url.path like '/gate/_'", yes}, Case{"url.path like '/gate'", no},
                    Case{"url.path not like '%7'", no}, Case{"url.path like '%/%/%'", yes},
                    Case{"user like 'k!_%' escape '!'", no}, Case{"user like 'k!!%!%' escape '!'", no},
                    Case{"url.path matches '/\\d$'", yes}, Case{"url.path matches '^gate'", no},
                    Case{"user not matches 'z'", yes}, Case{"status like '5%'", yes},
                    Case{"has 'refused'", yes}, Case{"has 'REFUSED gate'", yes}, Case{"has 'refuse'", no},
                    Case{"has 'ticket-9'", yes}, Case{"has '/gate/7'", yes}, Case{"body has 'get'", yes},
                    Case{"user has 'get'", no}, Case{"has 'kestrel refused'", yes}));

INSTANTIATE_TEST_SUITE_P(Logic, ConditionEvaluates,
                         testing::Values(Case{"status = 1 or status = 2 and ok or user = 'kestrel'", yes},
                                         Case{"(status = 1 or ok) and status = 2", no},
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
INSTANTIATE_TEST_SUITE_P(Conditions, RefusedCondition,
                         testing::Values(BadCase{"", 0, "empty"}, BadCase{"status == 3", 7, "single ="},
                                         BadCase{"status != 3", 7, "<>"},
                                         BadCase{"status >= 500 adn ok", 14, "did you mean `and`"},
                                         BadCase{"status:500", 6, "SQL"}, BadCase{"status = ", 9, "a value"},
                                         BadCase{"status = 'x", 9, "closing quote"}, BadCase{"(ok", 3, "`)`"},
                                         BadCase{"a = null", 4, "is null"}, BadCase{"status in 5", 10, "`(`"},
                                         BadCase{"user lik 'x'", 5, "did you mean `like`"},
                                         BadCase{"user matches '('", 15, "regex"},
                                         BadCase{"has ''", 4, "word"}, BadCase{"'x' = user", 0, "field"},
                                         BadCase{"a = 1 && b = 2", 6, "`and`"},
                                         BadCase{"ok is nul", 6, "`null`"}, BadCase{"status = 1x", 10, "and"},
                                         BadCase{"user like 'a!b' escape '!'", 10, "ISO 9075"},
                                         BadCase{"user like 'a!' escape '!'", 10, "ISO 9075"},
                                         BadCase{"timestamp > '15m'", 12, "--since"},
                                         BadCase{"at > timestamp 'now'", 15, "--since"}));

TEST(Condition, DeepNestingIsRefusedNotRecursedInto) {
  EXPECT_FALSE(Condition::parse(std::string(5000, '(') + "ok" + std::string(5000, ')')));
}

TEST(Condition, TellsWhatBlocksMustHave) {
  auto c = Condition::parse("status >= 500 and (a = 1 or b = 2) and user = 'Kestrel' and has 'no berth'");
  ASSERT_TRUE(c);
  EXPECT_EQ(c->bounds().size(), 2u);
  EXPECT_EQ(c->required_words(), (std::vector<std::string>{"kestrel", "no", "berth"}));
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
