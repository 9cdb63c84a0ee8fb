#include "core/severity.h"

#include "core/ascii.h"

namespace dingle {
namespace {

struct Level {
  std::string_view word;
  int number;
};
constexpr Level kLevels[] = {{"trace", 1},  {"trc", 1},        {"verbose", 1},     {"finest", 1},
                             {"finer", 2},  {"t", 1},          {"debug", 5},       {"dbg", 5},
                             {"dbug", 5},   {"fine", 5},       {"d", 5},           {"config", 8},
                             {"info", 9},   {"inf", 9},        {"information", 9}, {"informational", 9},
                             {"log", 9},    {"i", 9},          {"notice", 10},     {"note", 10},
                             {"warn", 13},  {"warning", 13},   {"wrn", 13},        {"w", 13},
                             {"error", 17}, {"err", 17},       {"eror", 17},       {"severe", 17},
                             {"e", 17},     {"crit", 18},      {"critical", 18},   {"c", 18},
                             {"alert", 19}, {"fatal", 21},     {"ftl", 21},        {"f", 21},
                             {"emerg", 21}, {"emergency", 21}, {"panic", 21}};

constexpr int kOfSyslog[] = {21, 19, 18, 17, 13, 10, 9, 5};  // data model, appendix B

}  // namespace

int level_number(std::string_view lower_case_word) {
  for (const Level& level : kLevels)
    if (level.word == lower_case_word) return level.number;
  return 0;
}

bool severity_number_of(std::string_view word, int& number) {
  char lower[16];
  if (word.empty() || word.size() > sizeof lower) return false;
  for (std::size_t i = 0; i < word.size(); ++i) lower[i] = lower_ascii(word[i]);
  const int found = level_number({lower, word.size()});
  if (found != 0) number = found;
  return found != 0;
}

Value severity_number(const Value& severity) {
  int number = 0;
  if (severity.kind() == Kind::text) {
    const std::string_view text = severity.as_text();
    if (text.size() == 1 && text[0] >= '0' && text[0] <= '7') return Value::integer(kOfSyslog[text[0] - '0']);
    if (severity_number_of(text, number)) return Value::integer(number);
  } else if (severity.kind() == Kind::integer && severity.as_integer() >= 0 && severity.as_integer() <= 7) {
    return Value::integer(kOfSyslog[severity.as_integer()]);
  }
  return {};
}

}  // namespace dingle
