// Finds a literal text: by the byte of it that logs hold least often, and what stands around that.
#pragma once

#include <array>
#include <cstring>
#include <string>
#include <string_view>

namespace dingle {

// How often a byte stands in logs, roughly.
constexpr int frequency_in_logs(char c) {
  if (c >= 'a' && c <= 'z')
    return std::string_view("etaoinsrhldcu").find(c) != std::string_view::npos ? 9 : 6;
  if (c >= '0' && c <= '9') return 8;
  if (c >= 'A' && c <= 'Z') return 4;
  switch (c) {
    case ' ': return 10;
    case '.':
    case '-':
    case ':':
    case '/':
    case '"':
    case ',': return 7;
    case '=':
    case '_': return 3;
    default: return 1;
  }
}

inline constexpr auto kFrequency = [] {
  std::array<unsigned char, 256> all{};
  for (unsigned c = 0; c < 256; ++c)
    all[c] = static_cast<unsigned char>(frequency_in_logs(static_cast<char>(c)));
  return all;
}();

// The place of the rarest byte of a text; 0 for an empty one.
inline std::size_t rarest_byte(std::string_view text) {
  std::size_t rarest = 0;
  for (std::size_t i = 1; i < text.size(); ++i)
    if (kFrequency[static_cast<unsigned char>(text[i])] <
        kFrequency[static_cast<unsigned char>(text[rarest])])
      rarest = i;
  return rarest;
}

// Where `text`, which is not empty, stands first at `from` or behind it; npos if it does not. `rarest`: of its bytes.
inline std::size_t find_literal(std::string_view in, std::string_view text, std::size_t rarest,
                                std::size_t from = 0) {
  if (in.size() < text.size()) return std::string_view::npos;
  const char* const begin = in.data();
  const char* const last = begin + in.size() - text.size() + rarest;  // where the byte may stand at most
  for (const char* at = begin + from + rarest; at <= last; ++at) {
    at = static_cast<const char*>(std::memchr(at, text[rarest], static_cast<std::size_t>(last - at) + 1));
    if (at == nullptr) break;
    if (std::memcmp(at - rarest, text.data(), text.size()) == 0)
      return static_cast<std::size_t>(at - rarest - begin);
  }
  return std::string_view::npos;
}

class LiteralSearch {
 public:
  LiteralSearch() = default;
  explicit LiteralSearch(std::string text) : text_(std::move(text)), rarest_(rarest_byte(text_)) {}
  const std::string& text() const { return text_; }
  std::size_t find(std::string_view in, std::size_t from = 0) const {
    return find_literal(in, text_, rarest_, from);
  }

 private:
  std::string text_;
  std::size_t rarest_ = 0;
};

}  // namespace dingle
