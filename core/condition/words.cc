#include "core/condition/words.h"

#ifdef __SSE2__
#include <emmintrin.h>
#endif

#include <algorithm>
#include <bit>
#include <cstring>

namespace dingle {
namespace {

bool is_white(char c) { return c == ' ' || (c >= '\t' && c <= '\r'); }

}  // namespace

bool contains_folded(std::string_view text, std::string_view lower) {
  if (lower.empty()) return true;
  if (lower.size() > text.size()) return false;
  const auto is_at = [&](std::size_t at) {
    return std::equal(lower.begin(), lower.end(), text.begin() + static_cast<std::ptrdiff_t>(at),
                      [](char small, char c) { return small == lower_ascii(c); });
  };
  std::size_t at = 0;
  const std::size_t last = lower.size() - 1, places = text.size() - last;
#ifdef __SSE2__
  // Where both the first and the last byte fit, sixteen places at once.
  const auto fits = [](const char* from, char c) {
    const __m128i bytes = _mm_loadu_si128(reinterpret_cast<const __m128i*>(from));
    const __m128i small = is_letter(c) ? _mm_or_si128(bytes, _mm_set1_epi8(0x20)) : bytes;
    return _mm_cmpeq_epi8(small, _mm_set1_epi8(c));
  };
  for (; at + 16 <= places; at += 16) {
    auto both = static_cast<unsigned>(_mm_movemask_epi8(
        _mm_and_si128(fits(text.data() + at, lower.front()), fits(text.data() + at + last, lower.back()))));
    for (; both != 0; both &= both - 1)
      if (is_at(at + static_cast<std::size_t>(std::countr_zero(both)))) return true;
  }
#endif
  for (; at < places; ++at)
    if (is_at(at)) return true;
  return false;
}

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
