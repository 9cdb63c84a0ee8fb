#include "core/json_text.h"

#include <bit>
#include <charconv>
#include <cmath>
#include <cstdint>
#include <cstring>
#ifdef __SSE2__
#include <emmintrin.h>
#endif

namespace dingle {
namespace {

// Length of the valid UTF-8 sequence that starts at text[i], or 0 (Unicode 15, table 3-7).
std::size_t utf8_length(std::string_view text, std::size_t i) {
  auto byte = [&](std::size_t k) -> unsigned {
    return k < text.size() ? static_cast<unsigned char>(text[k]) : 0u;
  };
  auto tail = [&](std::size_t k, unsigned low = 0x80, unsigned high = 0xBF) {
    return byte(k) >= low && byte(k) <= high;
  };
  unsigned b = byte(i);
  if (b < 0x80) return 1;
  if (b >= 0xC2 && b <= 0xDF) return tail(i + 1) ? 2 : 0;
  if (b == 0xE0) return tail(i + 1, 0xA0) && tail(i + 2) ? 3 : 0;
  if (b == 0xED) return tail(i + 1, 0x80, 0x9F) && tail(i + 2) ? 3 : 0;
  if (b >= 0xE1 && b <= 0xEF) return tail(i + 1) && tail(i + 2) ? 3 : 0;
  if (b == 0xF0) return tail(i + 1, 0x90) && tail(i + 2) && tail(i + 3) ? 4 : 0;
  if (b >= 0xF1 && b <= 0xF3) return tail(i + 1) && tail(i + 2) && tail(i + 3) ? 4 : 0;
  if (b == 0xF4) return tail(i + 1, 0x80, 0x8F) && tail(i + 2) && tail(i + 3) ? 4 : 0;
  return 0;
}

// How many bytes from text[i] on stand in a JSON string as they are: ASCII without control characters, quote
// and backslash.
std::size_t plain_length(std::string_view text, std::size_t i) {
  const std::size_t from = i;
#ifdef __SSE2__
  for (; i + 16 <= text.size(); i += 16) {
    const __m128i bytes = _mm_loadu_si128(reinterpret_cast<const __m128i*>(text.data() + i));
    // Signed: bytes above 0x7f are less than a blank, too.
    const __m128i special = _mm_or_si128(
        _mm_cmplt_epi8(bytes, _mm_set1_epi8(' ')),
        _mm_or_si128(_mm_cmpeq_epi8(bytes, _mm_set1_epi8('"')), _mm_cmpeq_epi8(bytes, _mm_set1_epi8('\\'))));
    if (const auto mask = static_cast<unsigned>(_mm_movemask_epi8(special)); mask != 0)
      return i - from + static_cast<std::size_t>(std::countr_zero(mask));
  }
#endif
  for (; i < text.size(); ++i) {
    const auto c = static_cast<unsigned char>(text[i]);
    if (c < 0x20 || c >= 0x80 || c == '"' || c == '\\') break;
  }
  return i - from;
}

constexpr std::string_view kReplacement = "\xEF\xBF\xBD";

}  // namespace

void append_json_string(std::string& out, std::string_view text) {
  static const char* hex = "0123456789abcdef";
  out += '"';
  for (std::size_t i = 0;;) {
    const std::size_t plain = plain_length(text, i);
    out.append(text, i, plain);
    i += plain;
    if (i == text.size()) break;
    const auto c = static_cast<unsigned char>(text[i]);
    std::size_t length = 1;
    switch (c) {
      case '"': out += "\\\""; break;
      case '\\': out += "\\\\"; break;
      case '\n': out += "\\n"; break;
      case '\r': out += "\\r"; break;
      case '\t': out += "\\t"; break;
      default:
        if (c < 0x20) {
          out += "\\u00";
          out += hex[c >> 4];
          out += hex[c & 15];
        } else if (std::size_t n = utf8_length(text, i); n != 0) {
          out.append(text, i, n);
          length = n;
        } else {
          out += kReplacement;
        }
    }
    i += length;
  }
  out += '"';
}

void append_json_integer(std::string& out, std::int64_t number) {
  char buffer[20];
  out.append(buffer, std::to_chars(buffer, buffer + sizeof buffer, number).ptr);
}

void append_json_number(std::string& out, double number) {
  if (!std::isfinite(number)) {
    out += "null";
    return;
  }
  char buffer[40];
  auto end = std::to_chars(buffer, buffer + sizeof buffer, number).ptr;
  out.append(buffer, end);
}

std::string valid_utf8(std::string_view text) {
  std::string out;
  out.reserve(text.size());
  for (std::size_t i = 0; i < text.size();) {
    std::size_t n = utf8_length(text, i);
    if (n == 0)
      out += kReplacement, ++i;
    else
      out.append(text, i, n), i += n;
  }
  return out;
}

}  // namespace dingle
