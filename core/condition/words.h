// Words of a text, for the full-text test `mentions`: runs of ASCII letters, digits and bytes from 0x80; ASCII
// case does not count. "GET /gate/7" has the words get, gate, 7.
#pragma once

#include <optional>
#include <string>
#include <string_view>
#include <vector>

#include "core/ascii.h"

namespace dingle {

inline bool is_word_byte(char c) {
  auto b = static_cast<unsigned char>(c);
  return (b >= '0' && b <= '9') || ((b | 0x20) >= 'a' && (b | 0x20) <= 'z') || b >= 0x80;
}

// Whether the text holds `lower`, whose ASCII letters are small ones; those of the text may be either. A word of the text or
// not. Costs less than a nanosecond for each four bytes.
bool contains_folded(std::string_view text, std::string_view lower);

// Calls `take(std::string_view)` with each word as it is written. A view into `text`.
template <class Take>
void for_each_word(std::string_view text, Take take) {
  for (std::size_t i = 0; i < text.size();) {
    while (i < text.size() && !is_word_byte(text[i])) ++i;
    std::size_t from = i;
    while (i < text.size() && is_word_byte(text[i])) ++i;
    if (i != from) take(text.substr(from, i - from));
  }
}

// What `mentions 'a b-c "d e" f*'` looks for: each piece between blanks must occur, its signs included, with word borders at
// its ends. Words in double quotes are one piece: they stand together, with any run of white space between them. A piece that
// ends in * is the beginning of a word.
class WordQuery {
 public:
  explicit WordQuery(std::string_view text);
  // A double quote that is not closed: its place in the text.
  std::optional<std::size_t> unclosed() const { return unclosed_; }
  std::size_t pieces() const { return pieces_.size(); }
  bool piece_in(std::size_t piece, std::string_view text) const;
  bool all_in(std::string_view text) const;
  // The words, in lower case, that a text with all pieces must contain; beginnings are not among them.
  const std::vector<std::string>& words() const { return words_; }

 private:
  void add(std::string_view piece);
  struct Piece {
    std::string text;     // lower case; a blank stands for white space
    bool begins = false;  // with more of the word behind it
  };
  std::vector<Piece> pieces_;
  std::optional<std::size_t> unclosed_;
  std::vector<std::string> words_;
};

}  // namespace dingle
