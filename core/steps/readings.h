// What a text says in the formats that write characters otherwise: JSON strings (RFC 8259 section 7), XML (1.0, sections 2.7 and
// 4.1), cells of CSV (RFC 4180 section 2.7). And where in the text each byte of that stands.
#pragma once

#include <cstddef>
#include <cstdint>
#include <string>
#include <string_view>
#include <utility>
#include <vector>

namespace dingle {

// A text and its readings. A text may hold a format within another (JSON in a JSON string, XML in a CSV cell): each reading of a
// reading is one, too. What is no escape of a format stays as it is. Without a backslash, `&` or doubled quote there is one
// reading, the text, and nothing is allocated.
//
//   Readings readings;
//   readings.read(R"({"name":"K\u0065strel"})");
//   readings.size();             // 2
//   readings.text(1);            // {"name":"Kestrel"}
//   readings.place(1, 9, 16);    // {9, 21}: where `Kestrel` stands in the text
class Readings {
 public:
  static constexpr std::size_t kMost = 16;  // of one text
  static constexpr std::size_t kDeepest = 5;
  static constexpr std::size_t kMostBytes = 4 << 20;  // of all of them

  // The text must stay while its readings are used. They replace those of before.
  void read(std::string_view text);
  std::size_t size() const { return 1 + size_; }
  std::string_view text(std::size_t reading) const {
    return reading == 0 ? text_ : std::string_view(made_[reading - 1].text);
  }
  // Of a piece of a reading, which is not empty: from and to in the text.
  std::pair<std::size_t, std::size_t> place(std::size_t reading, std::size_t from, std::size_t to) const;
  bool complete() const { return complete_; }  // false: there are more, deeper or longer ones

 private:
  struct Made {
    std::string text;
    std::vector<std::uint32_t> from, to;  // of each byte, in the first text
    std::size_t depth = 0;
  };
  bool add(std::size_t of, int format);
  std::string_view text_;
  std::vector<Made> made_;  // the first `size_` count
  std::size_t size_ = 0;
  std::size_t bytes_ = 0;
  bool complete_ = true;
};

}  // namespace dingle
