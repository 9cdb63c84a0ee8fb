#include "core/steps/readings.h"

#include <algorithm>

namespace dingle {
namespace {

// One escape: how many bytes of the text it takes, and what it says. 0 bytes: there is none.
struct Escape {
  std::size_t length = 0;
  char said[4] = {};
  std::size_t size = 0;
  void say(std::uint32_t code) {
    const auto put = [&](std::uint32_t byte) { said[size++] = static_cast<char>(byte); };
    if (code < 0x80) {
      put(code);
    } else if (code < 0x800) {
      put(0xC0 | code >> 6), put(0x80 | (code & 63));
    } else if (code < 0x10000) {
      put(0xE0 | code >> 12), put(0x80 | (code >> 6 & 63)), put(0x80 | (code & 63));
    } else {
      put(0xF0 | code >> 18), put(0x80 | (code >> 12 & 63)), put(0x80 | (code >> 6 & 63)),
          put(0x80 | (code & 63));
    }
  }
};

int digit_of(char c, int base) {
  const int digit = c >= '0' && c <= '9'                     ? c - '0'
                    : (c | 0x20) >= 'a' && (c | 0x20) <= 'f' ? (c | 0x20) - 'a' + 10
                                                             : 99;
  return digit < base ? digit : -1;
}

// Four hexadecimal digits; -1: they are none.
std::int32_t code_unit(std::string_view text) {
  if (text.size() < 4) return -1;
  std::int32_t code = 0;
  for (std::size_t i = 0; i < 4; ++i) {
    const int digit = digit_of(text[i], 16);
    if (digit < 0) return -1;
    code = code * 16 + digit;
  }
  return code;
}

Escape json_escape(std::string_view text) {
  Escape e;
  if (text.size() < 2 || text[0] != '\\') return e;
  constexpr std::string_view kNames = "\"\\/bfnrt'", kSaid = "\"\\/\b\f\n\r\t'";
  if (const std::size_t simple = kNames.find(text[1]); simple != kNames.npos) {
    e.length = 2;
    e.say(static_cast<unsigned char>(kSaid[simple]));
    return e;
  }
  std::int32_t code = text[1] == 'u' ? code_unit(text.substr(2)) : -1;
  if (code < 0) return e;
  e.length = 6;
  if (code >= 0xD800 && code < 0xDC00 && text.substr(6).starts_with("\\u")) {
    const std::int32_t low = code_unit(text.substr(8));
    if (low >= 0xDC00 && low < 0xE000) {
      code = 0x10000 + ((code - 0xD800) << 10) + (low - 0xDC00);
      e.length = 12;
    }
  }
  e.say(static_cast<std::uint32_t>(code));
  return e;
}

Escape xml_escape(std::string_view text) {
  Escape e;
  if (text.size() < 4 || text[0] != '&') return e;
  constexpr std::pair<std::string_view, char> kNamed[] = {
      {"&amp;", '&'}, {"&lt;", '<'}, {"&gt;", '>'}, {"&quot;", '"'}, {"&apos;", '\''}};
  for (const auto& [name, said] : kNamed)
    if (text.starts_with(name)) {
      e.length = name.size();
      e.say(static_cast<unsigned char>(said));
      return e;
    }
  if (text[1] != '#') return e;
  const bool hex = text[2] == 'x';
  std::uint32_t code = 0;
  std::size_t at = hex ? 3 : 2;
  const std::size_t first = at;
  for (; at < text.size() && at < first + 9; ++at) {
    const int digit = digit_of(text[at], hex ? 16 : 10);
    if (digit < 0) break;
    code = code * (hex ? 16 : 10) + static_cast<std::uint32_t>(digit);
    if (code > 0x10FFFF) return e;
  }
  if (at == first || at == text.size() || text[at] != ';') return e;
  e.length = at + 1;
  e.say(code);
  return e;
}

Escape csv_escape(std::string_view text) {
  Escape e;
  if (!text.starts_with("\"\"")) return e;
  e.length = 2;
  e.say('"');
  return e;
}

struct Format {
  char begins;
  Escape (*escape)(std::string_view text);
};
constexpr Format kFormats[] = {{'\\', json_escape}, {'&', xml_escape}, {'"', csv_escape}};

}  // namespace

std::pair<std::size_t, std::size_t> Readings::place(std::size_t reading, std::size_t from,
                                                    std::size_t to) const {
  if (reading == 0) return {from, to};
  const Made& made = made_[reading - 1];
  return {made.from[from], made.to[to - 1]};
}

// The reading of another one in a format, if that says something else. False: there is no room for it.
bool Readings::add(std::size_t of, int format) {
  const Format& f = kFormats[format];
  const std::string_view text = this->text(of);
  Escape escape;
  std::size_t at = text.find(f.begins);
  while (at != text.npos && (escape = f.escape(text.substr(at))).length == 0)
    at = text.find(f.begins, at + 1);
  if (at == text.npos) return true;
  const std::size_t depth = of == 0 ? 1 : made_[of - 1].depth + 1;
  if (size_ + 1 == kMost || depth > kDeepest || bytes_ + text.size() > kMostBytes) return false;
  bytes_ += text.size();
  if (made_.size() == size_) made_.emplace_back();
  Made& made = made_[size_];
  const std::string_view from = this->text(of);  // `made_` may have moved it
  made.text.clear(), made.from.clear(), made.to.clear();
  made.depth = depth;
  for (std::size_t i = 0; i < from.size();) {
    escape = from[i] == f.begins ? f.escape(from.substr(i)) : Escape();
    const bool plain = escape.length == 0;
    const std::size_t length = plain ? 1 : escape.length;
    const auto [first, last] = place(of, i, i + length);
    for (std::size_t b = 0; b < (plain ? 1 : escape.size); ++b) {
      made.text += plain ? from[i] : escape.said[b];
      made.from.push_back(static_cast<std::uint32_t>(first));
      made.to.push_back(static_cast<std::uint32_t>(last));
    }
    i += length;
  }
  for (std::size_t i = 0; i < size_; ++i)
    if (made_[i].text == made.text) return true;  // by another way
  ++size_;
  return true;
}

void Readings::read(std::string_view text) {
  constexpr std::size_t kKept = 1 << 20;  // of memory that was needed once
  if (bytes_ > kKept) made_ = {};
  text_ = text;
  size_ = bytes_ = 0;
  complete_ = true;
  for (std::size_t of = 0; of <= size_; ++of)
    for (int format = 0; format < 3; ++format) complete_ = add(of, format) && complete_;
}

}  // namespace dingle
