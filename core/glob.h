// Texts with `*` for any text, also none.
#pragma once

#include <string_view>

namespace dingle {

// Time grows with the product of both lengths at worst.
inline bool matches_glob(std::string_view text, std::string_view glob) {
  std::size_t t = 0, g = 0, star = std::string_view::npos, from = 0;
  while (t < text.size()) {
    if (g < glob.size() && glob[g] == '*') {
      star = g++;
      from = t;
    } else if (g < glob.size() && glob[g] == text[t]) {
      ++g, ++t;
    } else if (star != std::string_view::npos) {
      g = star + 1;
      t = ++from;
    } else {
      return false;
    }
  }
  while (g < glob.size() && glob[g] == '*') ++g;
  return g == glob.size();
}

}  // namespace dingle
