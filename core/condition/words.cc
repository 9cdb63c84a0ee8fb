#include "core/condition/words.h"

#include <algorithm>
#include <cstring>

namespace dingle {

WordQuery::WordQuery(std::string_view text) {
  std::string lower(text);
  std::transform(lower.begin(), lower.end(), lower.begin(), lower_ascii);
  for (std::size_t i = 0; i < lower.size();) {
    std::size_t end = std::min(lower.find_first_of(" \t\n", i), lower.size());
    std::string_view piece = std::string_view(lower).substr(i, end - i);
    if (std::any_of(piece.begin(), piece.end(), is_word_byte)) {
      pieces_.emplace_back(piece);
      for_each_word(piece, [&](std::string_view word) { words_.emplace_back(word); });
    }
    i = end + 1;
  }
}

bool WordQuery::piece_in(std::size_t which, std::string_view text) const {
  const std::string& piece = pieces_[which];
  if (piece.size() > text.size()) return false;
  const char first[2] = {piece[0],
                         static_cast<char>(piece[0] >= 'a' && piece[0] <= 'z' ? piece[0] - 32 : piece[0])};
  const std::size_t last_start = text.size() - piece.size();
  for (std::size_t i = 0; i <= last_start; ++i) {
    if (text[i] != first[0] && text[i] != first[1]) continue;
    if (i > 0 && is_word_byte(text[i - 1]) && is_word_byte(piece[0])) continue;
    std::size_t n = 1;
    while (n < piece.size() && lower_ascii(text[i + n]) == piece[n]) ++n;
    if (n != piece.size()) continue;
    if (i + n < text.size() && is_word_byte(text[i + n]) && is_word_byte(piece.back())) continue;
    return true;
  }
  return false;
}

bool WordQuery::all_in(std::string_view text) const {
  for (std::size_t i = 0; i < pieces_.size(); ++i)
    if (!piece_in(i, text)) return false;
  return true;
}

}  // namespace dingle
