// What goes to a terminal: foreign text must not steer it.
#pragma once

#include <iosfwd>
#include <memory>
#include <streambuf>
#include <string>
#include <string_view>

namespace dingle {

// The text as a person can see it: control characters as their pictures (␛ for ESC), C1 controls and
// characters that are invisible or turn the direction of writing as ⟨U+202E⟩, bytes that are not UTF-8 as
// U+FFFD. Newlines and tabs stay.
std::string visible(std::string_view text);

// Colour codes on their way to a VisibleOutput, which alone turns them into escapes: no text can look like
// one.
std::string color_mark(const char* code);

void clear_terminal();  // what was written to standard output, and the screen
// Replaces the line that it showed last, on standard error; "" takes it away.
void show_in_place(std::string_view line);

// While it lives, all that is written to the stream passes `visible`, but for marks of colour.
class VisibleOutput final : public std::streambuf {
 public:
  explicit VisibleOutput(std::ostream& stream);
  ~VisibleOutput() override;
  VisibleOutput(const VisibleOutput&) = delete;
  VisibleOutput& operator=(const VisibleOutput&) = delete;

 private:
  std::streamsize xsputn(const char* text, std::streamsize size) override;
  int_type overflow(int_type c) override;
  int sync() override;
  void pass(bool all);

  std::ostream& stream_;
  std::streambuf* to_;
  std::string held_;  // what may be the beginning of a character or mark
};

}  // namespace dingle
