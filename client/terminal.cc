#include "client/terminal.h"

#include <fmt/format.h>
#include <unistd.h>

#include <cstdint>
#include <iostream>
#include <random>

namespace dingle {
namespace {

// 0xFF is no byte of UTF-8, and the number is drawn anew in every process.
const std::string& mark() {
  static const std::string the_mark = fmt::format("\xFF{:08x}", std::random_device{}());
  return the_mark;
}
constexpr char kMarkEnd = '\xFE';
constexpr std::size_t kLongestMark = 32;

// The character at text[i] and its length; a byte that begins none has length 1 and the code 0xFFFD.
char32_t character(std::string_view text, std::size_t i, std::size_t& length) {
  const auto byte = static_cast<unsigned char>(text[i]);
  length = 1;
  if (byte < 0x80) return byte;
  const std::size_t n = byte >= 0xF0 && byte < 0xF5   ? 4
                        : byte >= 0xE0 && byte < 0xF0 ? 3
                        : byte >= 0xC2 && byte < 0xE0 ? 2
                                                      : 0;
  if (n == 0 || i + n > text.size()) return 0xFFFD;
  char32_t code = byte & (0xFFu >> (n + 1));
  for (std::size_t k = 1; k < n; ++k) {
    const auto next = static_cast<unsigned char>(text[i + k]);
    if ((next & 0xC0) != 0x80) return 0xFFFD;
    code = code << 6 | (next & 0x3F);
  }
  const bool overlong = (n == 3 && code < 0x800) || (n == 4 && code < 0x10000);
  if (overlong || code > 0x10FFFF || (code >= 0xD800 && code < 0xE000)) return 0xFFFD;
  length = n;
  return code;
}

bool is_hidden(char32_t c) {
  return (c >= 0x80 && c < 0xA0) || c == 0xAD || c == 0x61C || c == 0x180E || (c >= 0x200B && c <= 0x200F) ||
         (c >= 0x2028 && c <= 0x202E) || (c >= 0x2060 && c <= 0x206F) || c == 0xFEFF ||
         (c >= 0xFFF9 && c <= 0xFFFB) || (c >= 0xE0000 && c <= 0xE0FFF);
}

void append_visible(std::string_view text, std::string& out) {
  for (std::size_t i = 0, length; i < text.size(); i += length) {
    const char32_t c = character(text, i, length);
    if (c == '\n' || c == '\t' || (c >= 0x20 && c < 0x7F))
      out += static_cast<char>(c);
    else if (c < 0x20)
      out += {'\xE2', '\x90', static_cast<char>(0x80 + c)};  // U+2400 and following
    else if (c == 0x7F)
      out += "\xE2\x90\xA1";
    else if (c == 0xFFFD)
      out += "\xEF\xBF\xBD";
    else if (is_hidden(c))
      out += fmt::format("⟨U+{:04X}⟩", static_cast<std::uint32_t>(c));
    else
      out.append(text, i, length);
  }
}

}  // namespace

std::string visible(std::string_view text) {
  std::string out;
  append_visible(text, out);
  return out;
}

std::string color_mark(const char* code) { return mark() + code + kMarkEnd; }

void clear_terminal() {
  std::cout.flush();
  constexpr std::string_view kClear = "\x1b[2J\x1b[H";
  [[maybe_unused]] const auto written = ::write(STDOUT_FILENO, kClear.data(), kClear.size());
}

void show_in_place(std::string_view line) {
  std::cerr.flush();
  const std::string text = "\r" + visible(line) + "\x1b[K";
  [[maybe_unused]] const auto written = ::write(STDERR_FILENO, text.data(), text.size());
}

VisibleOutput::VisibleOutput(std::ostream& stream) : stream_(stream), to_(stream.rdbuf(this)) {}

VisibleOutput::~VisibleOutput() {
  pass(true);
  to_->pubsync();
  stream_.rdbuf(to_);
}

std::streamsize VisibleOutput::xsputn(const char* text, std::streamsize size) {
  held_.append(text, static_cast<std::size_t>(size));
  pass(false);
  return size;
}

VisibleOutput::int_type VisibleOutput::overflow(int_type c) {
  if (c != traits_type::eof()) held_ += static_cast<char>(c), pass(false);
  return traits_type::not_eof(c);
}

int VisibleOutput::sync() { return to_->pubsync(); }

// Passes on what is complete.
void VisibleOutput::pass(bool all) {
  std::string out;
  std::size_t at = 0;
  while (at < held_.size()) {
    const std::string_view rest = std::string_view(held_).substr(at);
    if (rest[0] == '\xFF') {
      const std::size_t end = rest.find(kMarkEnd);
      if (end == rest.npos && rest.size() < kLongestMark && !all) break;
      if (rest.starts_with(mark()) && end != rest.npos && end < kLongestMark) {
        out += "\x1b[" + std::string(rest.substr(mark().size(), end - mark().size())) + "m";
        at += end + 1;
        continue;
      }
    }
    std::size_t plain = rest.find('\xFF', 1);
    if (plain == rest.npos) {
      plain = rest.size();
      // The last character may go on.
      for (std::size_t back = 1; !all && back <= 3 && back <= rest.size(); ++back) {
        const auto byte = static_cast<unsigned char>(rest[rest.size() - back]);
        if ((byte & 0xC0) == 0x80) continue;
        if (byte >= 0xC2 && back < (byte >= 0xF0 ? 4u : byte >= 0xE0 ? 3u : 2u)) plain = rest.size() - back;
        break;
      }
      if (plain == 0) break;
    }
    append_visible(rest.substr(0, plain), out);
    at += plain;
  }
  held_.erase(0, at);
  to_->sputn(out.data(), static_cast<std::streamsize>(out.size()));
}

}  // namespace dingle
