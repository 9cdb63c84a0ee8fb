// Where words begin: what begins with a letter, digit or `_` is looked for only there.
#pragma once

#include <array>
#include <string_view>

namespace dingle {

inline constexpr auto kOfWord = [] {
  std::array<bool, 256> all{};
  for (unsigned c = '0'; c <= '9'; ++c) all[c] = true;
  for (unsigned c = 'a'; c <= 'z'; ++c) all[c] = all[c - 32] = true;
  all['_'] = true;
  return all;
}();
inline bool is_of_word(char c) { return kOfWord[static_cast<unsigned char>(c)]; }
// Whether the word at `at` goes on from before it. `at` is within the text.
inline bool within_word(std::string_view text, std::size_t at) {
  return at != 0 && is_of_word(text[at]) && is_of_word(text[at - 1]);
}

}  // namespace dingle
