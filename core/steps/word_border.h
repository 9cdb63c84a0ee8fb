// Where words begin: what begins with a letter, digit or `_` is looked for only there.
#pragma once

#include <cctype>
#include <string_view>

namespace dingle {

inline bool is_of_word(char c) { return std::isalnum(static_cast<unsigned char>(c)) || c == '_'; }
// Whether the word at `at` goes on from before it. `at` is within the text.
inline bool within_word(std::string_view text, std::size_t at) {
  return at != 0 && is_of_word(text[at]) && is_of_word(text[at - 1]);
}

}  // namespace dingle
