// Random templates on random lines, against the reference of docs/templates.md: the whole template as one
// regular expression in which every part is atomic or possessive.
#define PCRE2_CODE_UNIT_WIDTH 8
#include <gtest/gtest.h>
#include <pcre2.h>

#include <random>

#include "core/template/template.h"

namespace dingle {
namespace {

// A template as a list of units; a capture stands only where something literal, or the end, follows.
struct Unit {
  enum class Form { literal, word, text, integer, unspaced, optional, choice } form;
  std::string literal;  // literal; what an optional part begins with; the first alternative
  std::string other;    // the second alternative
};

class Generator {
 public:
  explicit Generator(std::uint64_t seed) : random_(seed) {}
  unsigned below(unsigned n) { return static_cast<unsigned>(random_() % n); }
  std::string letters(unsigned most) {
    std::string out;
    for (unsigned n = 1 + below(most); n > 0; --n) out += "ab1 ,;="[below(7)];
    return out;
  }
  std::vector<Unit> units() {
    std::vector<Unit> all;
    for (unsigned n = 1 + below(5); n > 0; --n) {
      if (below(2)) all.push_back({Unit::Form::literal, letters(2), ""});
      if (below(4) == 0) all.push_back({Unit::Form::choice, letters(2), letters(2)});
      static constexpr Unit::Form kCaptures[] = {Unit::Form::word, Unit::Form::text, Unit::Form::integer,
                                                 Unit::Form::unspaced};
      all.push_back({kCaptures[below(4)], "", ""});
      while (below(3) == 0) all.push_back({Unit::Form::optional, letters(2), ""});
      all.push_back({Unit::Form::literal, letters(2), ""});
    }
    if (below(2)) all.push_back({Unit::Form::text, "", ""});
    return all;
  }
  // A line that the template was made for, more or less.
  std::string line(const std::vector<Unit>& units) {
    std::string out;
    for (const Unit& u : units) {
      if (u.form == Unit::Form::literal)
        out += u.literal;
      else if (u.form == Unit::Form::choice)
        out += below(2) ? u.literal : u.other;
      else if (u.form == Unit::Form::optional)
        out += below(2) ? u.literal + std::to_string(below(100)) : "";
      else if (u.form == Unit::Form::integer)
        out += std::to_string(static_cast<int>(below(2000)) - 1000);
      else
        out += letters(4);
    }
    for (unsigned n = below(3); n > 0 && !out.empty(); --n) {
      const unsigned at = below(static_cast<unsigned>(out.size()));
      if (below(2))
        out[at] = "ab1 ,;="[below(7)];
      else
        out.erase(at, 1);
    }
    return out;
  }

 private:
  std::mt19937_64 random_;
};

std::string escaped(const std::string& literal) { return "\\Q" + literal + "\\E"; }

std::string template_of(const std::vector<Unit>& units) {
  std::string out;
  int name = 0;
  for (const Unit& u : units) {
    const std::string field = "f" + std::to_string(name);
    switch (u.form) {
      case Unit::Form::literal: out += u.literal; continue;
      case Unit::Form::choice: out += "{(}" + u.literal + "{|}" + u.other + "{)}"; continue;
      case Unit::Form::optional: out += "{[}" + u.literal + "{" + field + ":int}{]}"; break;
      case Unit::Form::word: out += "{" + field + ":word}"; break;
      case Unit::Form::text: out += "{" + field + "}"; break;
      case Unit::Form::integer: out += "{" + field + ":int}"; break;
      case Unit::Form::unspaced: out += "{" + field + ":unspaced}"; break;
    }
    ++name;
  }
  return out;
}

// What may follow a capture: the literals of optional parts, up to and with the first thing that must be
// there.
std::string followers(const std::vector<Unit>& units, std::size_t after) {
  std::string out;
  for (std::size_t i = after; i < units.size(); ++i) {
    std::string literal = units[i].literal;
    if (units[i].form == Unit::Form::choice)
      return out + (out.empty() ? "" : "|") + escaped(literal) + "|" + escaped(units[i].other);
    if (units[i].form == Unit::Form::literal)  // adjacent literals are one
      for (std::size_t k = i + 1; k < units.size() && units[k].form == Unit::Form::literal; ++k)
        literal += units[k].literal;
    if (units[i].form != Unit::Form::literal && units[i].form != Unit::Form::optional) return out;
    out += (out.empty() ? "" : "|") + escaped(literal);
    if (units[i].form == Unit::Form::literal) return out;
  }
  return out;
}

std::string regex_of(const std::vector<Unit>& units) {
  std::string out = "^";
  for (std::size_t i = 0; i < units.size(); ++i) {
    const Unit& u = units[i];
    const std::string follow = followers(units, i + 1);
    const std::string stop = follow.empty() ? "" : "(?!" + follow + ")";
    auto run = [&](const std::string& one, bool at_least_one) {
      return "((?>" + std::string(at_least_one ? one : "") + "(?:" + stop + one + ")*+))";
    };
    switch (u.form) {
      case Unit::Form::literal: out += escaped(u.literal); break;
      case Unit::Form::choice: out += "(?>" + escaped(u.literal) + "|" + escaped(u.other) + ")"; break;
      case Unit::Form::optional: out += "(?>" + escaped(u.literal) + "([+-]?[0-9]++))?+"; break;
      case Unit::Form::word: out += run("[A-Za-z0-9_-]", true); break;
      case Unit::Form::unspaced: out += run("\\S", true); break;
      case Unit::Form::text: out += run("[\\s\\S]", false); break;
      case Unit::Form::integer: out += "([+-]?[0-9]++)"; break;
    }
  }
  return out + "\\z";
}

TEST(TemplateReference, RandomTemplatesAgreeWithThePossessiveRegex) {
  Generator generator(11);
  const PatternLibrary library;
  int compiled = 0, matched = 0;
  for (int round = 0; round < 3000; ++round) {
    const auto units = generator.units();
    std::vector<Problem> problems;
    const std::string text = template_of(units);
    auto t = Template::compile(text, library, {}, problems);
    if (!t) continue;  // nothing says where a capture ends: refused, as it should be
    ++compiled;
    int error = 0;
    std::size_t offset = 0;
    const std::string regex = regex_of(units);
    pcre2_code* code =
        pcre2_compile(reinterpret_cast<PCRE2_SPTR>(regex.data()), regex.size(), 0, &error, &offset, nullptr);
    ASSERT_NE(code, nullptr) << regex;
    pcre2_match_data* data = pcre2_match_data_create_from_pattern(code, nullptr);
    for (int i = 0; i < 20; ++i) {
      const std::string line = generator.line(units);
      const int groups =
          pcre2_match(code, reinterpret_cast<PCRE2_SPTR>(line.data()), line.size(), 0, 0, data, nullptr);
      std::vector<Value> values(t->slots().size());
      const bool ours = t->match(line, {}, values.data());
      ASSERT_EQ(ours, groups > 0) << text << "\non: " << line << "\nreference: " << regex;
      if (!ours) continue;
      ++matched;
      const auto places = t->places(line, {});
      const std::size_t* v = pcre2_get_ovector_pointer(data);
      for (std::size_t s = 0; s < values.size(); ++s) {
        const bool there = static_cast<int>(s) + 1 < groups && v[2 * s + 2] != PCRE2_UNSET;
        ASSERT_EQ(!values[s].absent(), there) << text << " on " << line << ", " << t->slots()[s].name;
        if (!there) continue;
        const std::string expected = line.substr(v[2 * s + 2], v[2 * s + 3] - v[2 * s + 2]);
        ASSERT_EQ(line.substr(places[s].first, places[s].second), expected) << text << " on " << line;
      }
    }
    pcre2_match_data_free(data);
    pcre2_code_free(code);
  }
  EXPECT_GT(compiled, 1000);
  EXPECT_GT(matched, 5000);
}

}  // namespace
}  // namespace dingle
