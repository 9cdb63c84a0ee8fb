#include "core/json_text.h"

#include <charconv>
#include <cmath>
#include <cstdint>

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

constexpr std::string_view kReplacement = "\xEF\xBF\xBD";

}  // namespace

void append_json_string(std::string& out, std::string_view text) {
  static const char* hex = "0123456789abcdef";
  out += '"';
  std::size_t from = 0;
  for (std::size_t i = 0; i < text.size();) {
    auto c = static_cast<unsigned char>(text[i]);
    if (c >= 0x20 && c < 0x80 && c != '"' && c != '\\') {
      ++i;
      continue;
    }
    out.append(text, from, i - from);
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
    from = i;
  }
  out.append(text, from, text.size() - from);
  out += '"';
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
