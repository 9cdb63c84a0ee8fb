#include "core/condition/words.h"

#include <algorithm>
#include <cstring>

namespace dingle {
namespace {

bool is_white(char c) { return c == ' ' || (c >= '\t' && c <= '\r'); }

}  // namespace

WordQuery::WordQuery(std::string_view text) {
  std::string lower(text);
  std::transform(lower.begin(), lower.end(), lower.begin(), lower_ascii);
  const std::string_view all = lower;
  for (std::size_t i = 0; i < all.size();) {
    if (is_white(all[i])) {
      ++i;
      continue;
    }
    const bool quoted = all[i] == '"';
    std::size_t end = i + 1;
    while (end < all.size() && (quoted ? all[end] != '"' : !is_white(all[end]) && all[end] != '"')) ++end;
    if (quoted && end == all.size()) {
      unclosed_ = i;
      return;
    }
    add(quoted ? all.substr(i + 1, end - i - 1) : all.substr(i, end - i));
    i = end + quoted;
  }
}

void WordQuery::add(std::string_view text) {
  Piece piece;
  for (char c : text) {
    if (!is_white(c))
      piece.text += c;
    else if (!piece.text.empty() && piece.text.back() != ' ')
      piece.text += ' ';
  }
  if (piece.text.ends_with(' ')) piece.text.pop_back();
  piece.begins =
      piece.text.size() > 1 && piece.text.ends_with('*') && is_word_byte(piece.text[piece.text.size() - 2]);
  if (piece.begins) piece.text.pop_back();
  if (std::none_of(piece.text.begin(), piece.text.end(), is_word_byte)) return;
  for_each_word(piece.text, [&](std::string_view word) {
    if (!piece.begins || word.data() + word.size() != piece.text.data() + piece.text.size())
      words_.emplace_back(word);
  });
  pieces_.push_back(std::move(piece));
}

bool WordQuery::piece_in(std::size_t which, std::string_view text) const {
  const auto& [piece, begins] = pieces_[which];
  if (piece.size() > text.size()) return false;
  const char first[2] = {piece[0],
                         static_cast<char>(piece[0] >= 'a' && piece[0] <= 'z' ? piece[0] - 32 : piece[0])};
  const std::size_t last_start = text.size() - piece.size();
  for (std::size_t i = 0; i <= last_start; ++i) {
    if (text[i] != first[0] && text[i] != first[1]) continue;
    if (i > 0 && is_word_byte(text[i - 1]) && is_word_byte(piece[0])) continue;
    std::size_t n = 1, at = i + 1;
    for (; n < piece.size() && at < text.size(); ++n) {
      if (piece[n] != ' ') {
        if (lower_ascii(text[at]) != piece[n]) break;
        ++at;
        continue;
      }
      if (!is_white(text[at])) break;
      while (at < text.size() && is_white(text[at])) ++at;
    }
    if (n != piece.size()) continue;
    if (!begins && at < text.size() && is_word_byte(text[at]) && is_word_byte(piece.back())) continue;
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
