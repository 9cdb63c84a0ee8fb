#include "core/condition/meant.h"

#include <cctype>

namespace dingle {
namespace {

bool goes_on_as_name(char c) {
  return std::isalnum(static_cast<unsigned char>(c)) || c == '_' || c == '.' || c == '-';
}

}  // namespace

std::size_t place_in(std::string_view condition, std::string_view field) {
  bool in_text = false;
  for (std::size_t i = 0; i < condition.size(); ++i) {
    if (condition[i] == '\'') in_text = !in_text;
    if (in_text || !condition.substr(i).starts_with(field)) continue;
    const std::size_t end = i + field.size();
    if ((i == 0 || !goes_on_as_name(condition[i - 1])) &&
        (end == condition.size() || !goes_on_as_name(condition[end])))
      return i;
  }
  return std::string_view::npos;
}

std::string text_meant(std::string_view condition, std::string_view field) {
  std::size_t at = place_in(condition, field);
  if (at == std::string_view::npos) return "";
  const bool quoted = at > 0 && condition[at - 1] == '"';
  if (quoted) --at;
  while (at > 0 && condition[at - 1] == ' ') --at;
  if (at == 0 || std::string_view("=<>").find(condition[at - 1]) == std::string_view::npos) return "";
  return std::string(quoted ? "in double quotes stands a field's name; " : "") +
         "a text stands in single quotes: '" + std::string(field) + "'";
}

}  // namespace dingle
