// Random value expressions that are SQL for SQLite and PostgreSQL too, over the fields of one row.
#pragma once

#include <fmt/format.h>

#include <random>
#include <string>
#include <vector>

namespace dingle {

// What a row holds: whole numbers i and j, a decimal d, texts s and t, an absent number n and an absent text m.
struct ExpressionRow {
  std::int64_t i, j;
  double d;
  std::string s, t;
};

class ExpressionGrammar {
 public:
  enum class Dialect { common, postgres };
  ExpressionGrammar(std::uint32_t seed, Dialect dialect) : random_(seed), dialect_(dialect) {}

  ExpressionRow row() {
    static const std::vector<std::string> words{"tern", "Puffin", " berth 7 ", "50%", "a_b",
                                                "",     "it's",   "xx-yy",     "GATE"};
    return {below(41) - 20, below(7) - 3, (below(400) - 200) / 16.0, words[below(words.size())],
            words[below(words.size())]};
  }
  std::string any(int depth = 4) {
    switch (below(3)) {
      case 0: return number(depth);
      case 1: return text(depth);
      default: return truth(depth);
    }
  }
  std::string number(int depth) {
    if (depth == 0 || below(6) == 0)
      return one_of({"i", "j", "d", "n", "3", "-2", "0.5", "i", "d", fmt::format("{}", below(30) - 15)});
    const auto sub = [&] { return number(depth - 1); };
    switch (below(dialect_ == Dialect::postgres ? 14 : 11)) {
      case 0: return fmt::format("({} + {})", sub(), sub());
      case 1: return fmt::format("({} - {})", sub(), sub());
      case 2: return fmt::format("({} * {})", sub(), sub());
      case 3: return fmt::format("({} / nullif({}, 0))", whole(), whole());
      case 4: return fmt::format("({} % nullif({}, 0))", whole(), whole());
      case 5: return fmt::format("coalesce({}, {})", sub(), sub());
      case 6: return fmt::format("nullif({}, {})", sub(), sub());
      case 7: return fmt::format("abs({})", sub());
      case 8: return fmt::format("case when {} then {} else {} end", truth(depth - 1), sub(), sub());
      case 9:
        return fmt::format("case {} when {} then {} when 3 then {} end", whole(), whole(), sub(), sub());
      case 10: return fmt::format("(- {})", sub());
      case 11: return fmt::format("position({} in {})", text(depth - 1), text(depth - 1));
      case 12: return fmt::format("char_length({})", text(depth - 1));
      default:
        return fmt::format("extract({} from timestamp '2026-{:02}-{:02} {:02}:30:15.5')",
                           one_of({"year", "month", "day", "hour", "minute", "second", "dow", "isodow", "doy",
                                   "week", "quarter"}),
                           below(12) + 1, below(28) + 1, below(24));
    }
  }
  std::string text(int depth) {
    if (depth == 0 || below(5) == 0) return one_of({"s", "t", "m", "'tern'", "'a%'", "''", "'it''s'", "'x'"});
    const auto sub = [&] { return text(depth - 1); };
    switch (below(dialect_ == Dialect::postgres ? 11 : 8)) {
      case 0: return fmt::format("({} || {})", sub(), sub());
      case 1: return fmt::format("({} || {} || {})", sub(), sub(), sub());
      case 2: return fmt::format("lower({})", sub());
      case 3: return fmt::format("upper({})", sub());
      case 4: return fmt::format("substring({}, {}, {})", sub(), below(4) + 1, below(5));
      case 5: return fmt::format("coalesce({}, {})", sub(), sub());
      case 6: return fmt::format("trim({})", sub());
      case 7:
        return fmt::format("case when {} then {} when {} then {} end", truth(depth - 1), sub(),
                           truth(depth - 1), sub());
      case 8: return fmt::format("substring({} from {} for {})", sub(), below(8) - 3, below(5));
      case 9:
        return fmt::format("trim({} {} from {})", one_of({"leading", "trailing", "both"}),
                           one_of({"'x'", "' '", "'t7'"}), sub());
      default: return fmt::format("cast({} as text)", whole());
    }
  }
  std::string truth(int depth) {
    if (depth == 0) return fmt::format("({} {} {})", number(0), sign(), number(0));
    switch (below(11)) {
      case 0: return fmt::format("({} and {})", truth(depth - 1), truth(depth - 1));
      case 1: return fmt::format("({} or {})", truth(depth - 1), truth(depth - 1));
      case 2: return fmt::format("(not {})", truth(depth - 1));
      case 3: return fmt::format("({} {} {})", number(depth - 1), sign(), number(depth - 1));
      case 4: return fmt::format("({} {} {})", text(depth - 1), sign(), text(depth - 1));
      case 5: return fmt::format("({} is {}null)", below(2) ? number(depth - 1) : text(depth - 1), negated());
      case 6:
        return fmt::format("({} {}in ({}, {}, {}))", number(depth - 1), negated(), number(0), number(0),
                           number(0));
      case 7:
        return fmt::format("({} {}between {} and {})", number(depth - 1), negated(), number(0), number(0));
      case 8:
        return fmt::format("({} {}like '{}')", text(depth - 1), negated(),
                           one_of({"%t%", "_ern", "a!_%", "%", "%7%"}));
      case 9: return fmt::format("({} is {}true)", truth(depth - 1), negated());
      default: return fmt::format("({} {}in ('tern', {}))", text(depth - 1), negated(), text(0));
    }
  }

 private:
  std::int64_t below(std::size_t n) { return static_cast<std::int64_t>(random_() % n); }
  std::string one_of(const std::vector<std::string>& all) {
    return all[static_cast<std::size_t>(below(all.size()))];
  }
  std::string whole() { return one_of({"i", "j", "n", "3", "7", "(i + j)", "(j * 5)"}); }
  std::string sign() { return one_of({"=", "<>", "<", "<=", ">", ">="}); }
  std::string negated() { return below(2) ? "not " : ""; }
  std::mt19937 random_;
  Dialect dialect_;
};

}  // namespace dingle
