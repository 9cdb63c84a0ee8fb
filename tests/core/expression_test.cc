#include "core/condition/expression.h"

#include <gtest/gtest.h>
#include <sqlite3.h>

#include <cmath>
#include <map>

#include "core/time/instant.h"
#include "tests/core/expression_grammar.h"

namespace dingle {
namespace {

class SqlRow final : public FieldReader {
 public:
  SqlRow() = default;
  explicit SqlRow(const ExpressionRow& row) {
    values = {{"i", Value::integer(row.i)},
              {"j", Value::integer(row.j)},
              {"d", Value::decimal(row.d)},
              {"s", Value::text(row.s)},
              {"t", Value::text(row.t)}};
  }
  Value get(FieldId field) const override {
    auto it = values.find(field_name(field));
    return it == values.end() ? Value() : it->second;
  }
  bool any_text(const std::function<bool(std::string_view)>&) const override { return false; }
  std::map<std::string, Value, std::less<>> values;
};

SqlRow sample_row() {
  SqlRow row;
  row.values = {{"load_kg", Value::integer(2250)},
                {"ratio", Value::decimal(2.5)},
                {"user", Value::text("Kestrel")},
                {"code", Value::text("404")},
                {"berth", Value::text("Bärth 7")},
                {"ok", Value::boolean(true)},
                {"client.address", Value::ip("192.0.2.7")},
                {"began", Value::timestamp(*parse_moment("2026-11-23T22:30:00Z", 0))},
                {"ended", Value::timestamp(*parse_moment("2026-11-23T22:31:30.25Z", 0))},
                {"least", Value::integer(std::numeric_limits<std::int64_t>::min())},
                {"bad", Value::text("\xff\xfe")}};
  return row;
}

struct ComesTo {
  const char* text;
  const char* json;  // "": absent
  const char* fault = "";
};
class ExpressionValue : public testing::TestWithParam<ComesTo> {};
TEST_P(ExpressionValue, IsAsTheStandardSays) {
  const SqlRow row = sample_row();
  const auto e = Expression::parse(GetParam().text);
  ASSERT_TRUE(e) << GetParam().text << ": " << e.problem().message;
  Arena arena;
  std::string_view fault;
  const Value v = e->evaluate(row, arena, fault);
  std::string json;
  if (!v.absent()) v.append_json(json);
  EXPECT_EQ(json, GetParam().json) << GetParam().text;
  EXPECT_EQ(fault, GetParam().fault) << GetParam().text;
}
INSTANTIATE_TEST_SUITE_P(
    All, ExpressionValue,
    testing::Values(
        ComesTo{"load_kg / 1000", "2"}, ComesTo{"load_kg / 1000.0", "2.25"}, ComesTo{"load_kg % 1000", "250"},
        ComesTo{"1 + 2 * 3", "7"}, ComesTo{"(1 + 2) * 3", "9"}, ComesTo{"10 - 4 - 3", "3"},
        ComesTo{"-load_kg", "-2250"}, ComesTo{"- -3", "3"}, ComesTo{"2-3", "-1"}, ComesTo{"+5", "5"},
        ComesTo{"-9223372036854775808", "-9223372036854775808"}, ComesTo{"code + 1", "405"},
        ComesTo{"user + 1", "", "an operand is no number"}, ComesTo{"load_kg / 0.0", "", "division by zero"},
        ComesTo{"load_kg % (load_kg - 2250)", "", "division by zero"},
        ComesTo{"least - 1", "", "the result is too large"}, ComesTo{"-least", "", "the result is too large"},
        ComesTo{"abs(least)", "", "the result is too large"},
        ComesTo{"least / -1", "", "the result is too large"}, ComesTo{"least % -1", "0"},
        ComesTo{"ratio * 1e308 * 1e308", "", "the result is too large"}, ComesTo{"nothing + 1", ""},
        ComesTo{"user || '@' || code", "\"Kestrel@404\""}, ComesTo{"user || 1 + 2", "\"Kestrel3\""},
        ComesTo{"user || nothing", ""}, ComesTo{"client.address || ':' || 80", "\"192.0.2.7:80\""},
        ComesTo{"coalesce(nothing, user)", "\"Kestrel\""}, ComesTo{"coalesce(load_kg / 0, 5)", "5"},
        ComesTo{"coalesce(nothing, null)", ""}, ComesTo{"nullif(code, '404')", ""},
        ComesTo{"nullif(user, '-')", "\"Kestrel\""},
        ComesTo{"case when load_kg > 2000 then 'heavy' else 'light' end", "\"heavy\""},
        ComesTo{"case when nothing > 1 then 1 end", ""},
        ComesTo{"case code when 404 then 'gone' when 500 then 'x' end", "\"gone\""},
        ComesTo{"case when ok then 1 else load_kg / 0 end", "1"},
        ComesTo{"greatest(1, load_kg, ratio)", "2250"}, ComesTo{"least(3, ratio)", "2.5"},
        ComesTo{"greatest(1, nothing)", ""},
        ComesTo{"greatest(1, user)", "", "values of types that do not compare"},
        ComesTo{"cast(code as int)", "404"}, ComesTo{"cast(ratio as integer)", "2"},
        ComesTo{"cast(load_kg as text)", "\"2250\""}, ComesTo{"cast(load_kg as double precision)", "2250"},
        ComesTo{"cast('true' as boolean)", "true"}, ComesTo{"cast(ok as int)", "1"},
        ComesTo{"cast('2.75' as int)", "2"}, ComesTo{"cast('192.0.2.7' as ip)", "\"192.0.2.7\""},
        ComesTo{"cast('2026-11-23T10:00:00Z' as timestamp)", "\"2026-11-23T10:00:00Z\""},
        ComesTo{"cast(user as decimal)", "", "a value cannot be of the type that it is cast to"},
        ComesTo{"substring(berth from 2 for 3)", "\"ärt\""}, ComesTo{"substring(berth from 7)", "\"7\""},
        ComesTo{"substring(berth from -1 for 3)", "\"B\""}, ComesTo{"substring(berth for 2)", "\"Bä\""},
        ComesTo{"substring(berth, 99)", "\"\""},
        ComesTo{"substring(user, 1, load_kg - 2251)", "", "the length of a part of a text is negative"},
        ComesTo{"trim(both 'K' from user)", "\"estrel\""}, ComesTo{"trim(leading '0' from '007')", "\"7\""},
        ComesTo{"trim(trailing from ' a ')", "\" a\""}, ComesTo{"trim('  a ')", "\"a\""},
        ComesTo{"rtrim('a--', '-')", "\"a\""}, ComesTo{"lower(berth)", "\"bärth 7\""},
        ComesTo{"upper(berth)", "\"BÄRTH 7\""}, ComesTo{"lower('ÅÖΣ')", "\"åöσ\""},
        ComesTo{"lower(bad)", "", "the text is no UTF-8"}, ComesTo{"position('th' in berth)", "4"},
        ComesTo{"position('x' in berth)", "0"}, ComesTo{"char_length(berth)", "7"},
        ComesTo{"octet_length(berth)", "8"}, ComesTo{"extract(hour from began)", "22"},
        ComesTo{"extract(hour from began at time zone 'Europe/Helsinki')", "0"},
        ComesTo{"extract(day from began at time zone 'Europe/Helsinki')", "24"},
        ComesTo{"extract(second from ended)", "30.25"}, ComesTo{"extract(epoch from began)", "1795473000"},
        ComesTo{"extract(week from timestamp '2027-01-01')", "53"},
        ComesTo{"extract(year from user)", "", "an operand is no time"}, ComesTo{"ended - began", "90.25"},
        ComesTo{"began + 90.25", "\"2026-11-23T22:31:30.250Z\""},
        ComesTo{"began + ended", "", "times can only be subtracted from each other, or moved by seconds"},
        ComesTo{"began + 1e18", "", "the result is too large"}, ComesTo{"round(ratio)", "3"},
        ComesTo{"round(2.345, 2)", "2.35"}, ComesTo{"floor(-2.5)", "-3"}, ComesTo{"ceiling(2.1)", "3"},
        ComesTo{"load_kg > 2000 and ok", "true"}, ComesTo{"nothing > 1", ""}, ComesTo{"not ok", "false"},
        ComesTo{"ok", "true"}, ComesTo{"\"user\"", "\"Kestrel\""}, ComesTo{"mod(7, 4)", "3"}));

struct BadExpression {
  const char* text;
  std::size_t offset;
  const char* says;
};
class RefusedExpression : public testing::TestWithParam<BadExpression> {};
TEST_P(RefusedExpression, SaysWhere) {
  const auto e = Expression::parse(GetParam().text);
  ASSERT_FALSE(e) << GetParam().text;
  EXPECT_EQ(e.problem().offset, GetParam().offset) << e.problem().message;
  EXPECT_NE((e.problem().message + " " + e.problem().hint).find(GetParam().says), std::string::npos)
      << GetParam().text << ": " << e.problem().message << " " << e.problem().hint;
}
INSTANTIATE_TEST_SUITE_P(
    All, RefusedExpression,
    testing::Values(
        BadExpression{"", 0, "the expression is empty"}, BadExpression{"1 / 0", 0, "division by zero"},
        BadExpression{"user + 'x'", 7, "no number"}, BadExpression{"'a' + 1", 0, "`||` joins"},
        BadExpression{"lowr(user)", 0, "did you mean `lower`"},
        BadExpression{"lower(a, b)", 0, "takes 1 argument"}, BadExpression{"coalesce(", 9, "a value"},
        BadExpression{"cast(a as strng)", 10, "a type"}, BadExpression{"cast('x' as int)", 0, "cast"},
        BadExpression{"extract(hours from a)", 8, "did you mean `hour`"},
        BadExpression{"extract(hour from 5)", 18, "not from a number"},
        BadExpression{"case a end", 7, "`when`"}, BadExpression{"case when a then 1", 18, "`end`"},
        BadExpression{"a + (b > 1)", 5, "found a condition"},
        BadExpression{"extract(hour from a at time zone 'Europe/Helsinky')", 33, "Europe/Helsinki"},
        BadExpression{"(a", 2, "`)`"}, BadExpression{"a b", 2, "comparison"},
        BadExpression{"trim(leading a)", 14, "`from`"}));

TEST(ExpressionLimits, NestingIsBounded) {
  const auto nested = [](const char* open, const char* close, int n) {
    std::string text;
    for (int i = 0; i < n; ++i) text += open;
    text += "a";
    for (int i = 0; i < n; ++i) text += close;
    return Expression::parse(text);
  };
  for (const auto& [open, close] : {std::pair{"(", ")"},
                                    {"lower(", ")"},
                                    {"-", ""},
                                    {"", " + a"},
                                    {"case when a then ", " end"},
                                    {"not ", ""},
                                    {"coalesce(", ")"}}) {
    EXPECT_TRUE(nested(open, close, 40)) << open << close;
    const auto deep = nested(open, close, 900);
    ASSERT_FALSE(deep) << open << close;
    EXPECT_NE(deep.problem().message.find("nested too deeply"), std::string::npos) << open << close;
  }
  EXPECT_TRUE(nested("", " || a", 900));  // flat
}

TEST(ExpressionLimits, WhatIsMadeIsBounded) {
  SqlRow row;
  const std::string large(std::size_t{600} << 10, 'x');
  row.values = {{"s", Value::text(large)}};
  Arena arena;
  std::string_view fault;
  EXPECT_TRUE(Expression::parse("s || s")->evaluate(row, arena, fault).absent());
  EXPECT_EQ(fault, "the text would be longer than 1 MiB");
}

#if defined(__has_feature)
#if __has_feature(address_sanitizer) || __has_feature(thread_sanitizer)
#define DINGLE_IS_SANITIZED 1
#endif
#endif
#ifdef DINGLE_IS_SANITIZED
constexpr bool kSanitized = true;
#else
constexpr bool kSanitized = false;
#endif

// Against SQLite's own evaluation. What differs is documented, and not made here: overflow, texts of decimals, other letters.
TEST(ExpressionReference, AgreesWithSqlite) {
  sqlite3* db = nullptr;
  ASSERT_EQ(sqlite3_open(":memory:", &db), SQLITE_OK);
  sqlite3_exec(db,
               "pragma case_sensitive_like = on; create table f(i integer, j integer, d real, s text, t "
               "text, n integer, m text)",
               nullptr, nullptr, nullptr);
  ExpressionGrammar grammar(20261123, ExpressionGrammar::Dialect::common);
  int values = 0, absent = 0;
  const int rounds = kSanitized ? 1000 : 10'000;
  for (int round = 0; round < rounds; ++round) {
    const ExpressionRow r = grammar.row();
    const std::string text = grammar.any();
    sqlite3_stmt* insert = nullptr;
    sqlite3_exec(db, "delete from f", nullptr, nullptr, nullptr);
    sqlite3_prepare_v2(db, "insert into f(i, j, d, s, t) values(?, ?, ?, ?, ?)", -1, &insert, nullptr);
    sqlite3_bind_int64(insert, 1, r.i), sqlite3_bind_int64(insert, 2, r.j),
        sqlite3_bind_double(insert, 3, r.d);
    sqlite3_bind_text(insert, 4, r.s.data(), static_cast<int>(r.s.size()), SQLITE_TRANSIENT);
    sqlite3_bind_text(insert, 5, r.t.data(), static_cast<int>(r.t.size()), SQLITE_TRANSIENT);
    ASSERT_EQ(sqlite3_step(insert), SQLITE_DONE);
    sqlite3_finalize(insert);
    sqlite3_stmt* select = nullptr;
    ASSERT_EQ(sqlite3_prepare_v2(db, ("select " + text + " from f").c_str(), -1, &select, nullptr), SQLITE_OK)
        << text << ": " << sqlite3_errmsg(db);
    ASSERT_EQ(sqlite3_step(select), SQLITE_ROW);

    const auto e = Expression::parse(text);
    ASSERT_TRUE(e) << text << ": " << e.problem().message << " at " << e.problem().offset;
    const SqlRow row(r);
    Arena arena;
    std::string_view fault;
    const Value v = e->evaluate(row, arena, fault);
    ASSERT_EQ(fault, "") << text;
    const std::string said = text + "  i=" + std::to_string(r.i) + " j=" + std::to_string(r.j) +
                             " d=" + std::to_string(r.d) + " s='" + r.s + "' t='" + r.t +
                             "': " + v.to_string();
    v.absent() ? ++absent : ++values;
    switch (sqlite3_column_type(select, 0)) {
      case SQLITE_NULL: EXPECT_TRUE(v.absent()) << said; break;
      case SQLITE_TEXT:
        EXPECT_EQ(v.to_string(), reinterpret_cast<const char*>(sqlite3_column_text(select, 0))) << said;
        EXPECT_EQ(v.kind(), Kind::text) << said;
        break;
      default:
        if (v.kind() == Kind::boolean) {
          EXPECT_EQ(v.as_boolean(), sqlite3_column_int(select, 0) != 0) << said;
        } else {
          ASSERT_TRUE(v.is_number()) << said << " against " << sqlite3_column_text(select, 0);
          EXPECT_NEAR(v.as_number(), sqlite3_column_double(select, 0), std::abs(v.as_number()) * 1e-12)
              << said;
        }
    }
    sqlite3_finalize(select);
  }
  sqlite3_close(db);
  EXPECT_GT(values, rounds * 3 / 10);
  EXPECT_GT(absent, rounds / 10);
}

}  // namespace
}  // namespace dingle
