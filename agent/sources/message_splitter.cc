#include "agent/sources/message_splitter.h"

#include <algorithm>
#include <optional>

namespace dingle {
namespace {

constexpr std::size_t kMostDigits = 9;  // of a length

// The length that the message begins with, and where the message stands behind it. `short_of`: whether it may
// be one, had more come.
struct Length {
  std::uint64_t bytes = 0;
  std::size_t head = 0;  // digits and blank; 0: there is none
  bool short_of = false;
};
Length length_of(std::string_view text) {
  Length l;
  if (text.empty() || text[0] < '1' || text[0] > '9') return l;
  for (std::size_t i = 0; i <= kMostDigits; ++i) {
    if (i == text.size()) {
      l.short_of = true;
      return l;
    }
    if (text[i] == ' ') {
      l.head = i + 1;
      return l;
    }
    if (text[i] < '0' || text[i] > '9') return l;
    l.bytes = l.bytes * 10 + static_cast<std::uint64_t>(text[i] - '0');
  }
  return l;
}

}  // namespace

Messages take_messages(std::string_view chunk, std::size_t longest, bool ends, MessagePart& part) {
  Messages out;
  std::size_t at = 0;
  auto take = [&](std::size_t from, std::size_t size) {
    std::string_view text = chunk.substr(from, size);
    if (!text.empty() && text.back() == '\n') text.remove_suffix(1);
    if (!text.empty() && text.back() == '\r') text.remove_suffix(1);
    ++out.messages;
    if (text.empty())
      ++out.empty;
    else
      out.events.push_back({text, from});
  };
  auto cut = [&](std::size_t from) {
    take(from, longest);
    ++out.cut;
  };
  while (at < chunk.size()) {
    const std::string_view rest = chunk.substr(at);
    if (part.bytes_left != 0) {
      const std::size_t n = std::min<std::uint64_t>(part.bytes_left, rest.size());
      part.bytes_left -= n;
      out.cut_bytes += n;
      at += n;
      continue;
    }
    const Length length = part.to_line_feed ? Length() : length_of(rest);
    if (length.short_of && !ends) break;
    if (length.head != 0) {
      const std::size_t there = rest.size() - length.head;
      if (length.bytes > longest && there >= longest) {
        cut(at + length.head);
        part.bytes_left = length.bytes - longest;
        at += length.head + longest;
      } else if (there >= length.bytes || ends) {
        const std::size_t size = std::min<std::uint64_t>(length.bytes, there);
        out.cut += size < length.bytes;
        take(at + length.head, size);
        at += length.head + size;
      } else {
        break;
      }
      continue;
    }
    const std::size_t end = std::min(rest.find_first_of(std::string_view("\n\0", 2)), rest.size());
    const bool whole = end < rest.size();
    if (part.to_line_feed) {
      out.cut_bytes += end;
      part.to_line_feed = !whole;
      at += end + whole;
    } else if (end > longest) {
      cut(at);
      part.to_line_feed = true;
      at += longest;
    } else if (whole || ends) {
      take(at, end);
      at += end + whole;
    } else {
      break;
    }
  }
  out.consumed = at;
  return out;
}

}  // namespace dingle
