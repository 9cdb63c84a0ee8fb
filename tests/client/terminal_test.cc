#include "client/terminal.h"

#include <gtest/gtest.h>

#include <sstream>

namespace dingle {
namespace {

struct Case {
  const char *text, *seen;
};
class Visible : public testing::TestWithParam<Case> {};
TEST_P(Visible, Is) {
  EXPECT_EQ(visible(GetParam().text), GetParam().seen);
  // Wherever a write ends, the same comes out.
  const std::string text = GetParam().text;
  for (std::size_t at = 0; at <= text.size(); ++at) {
    std::ostringstream stream;
    {
      const VisibleOutput output(stream);
      stream << text.substr(0, at) << text.substr(at);
    }
    EXPECT_EQ(stream.str(), GetParam().seen) << at;
  }
}
INSTANTIATE_TEST_SUITE_P(
    Texts, Visible,
    testing::Values(Case{"plain\n\ttext", "plain\n\ttext"}, Case{"\x1b[31mred\x1b[0m", "␛[31mred␛[0m"},
                    Case{"a\rb\x07\x7f", "a␍b␇␡"},
                    Case{"\xc2\x9b"
                         "31m",
                         "⟨U+009B⟩31m"},
                    Case{"gate\u202Egnp.exe", "gate⟨U+202E⟩gnp.exe"},
                    Case{"\u200Bx\uFEFF", "⟨U+200B⟩x⟨U+FEFF⟩"},
                    Case{"bad \xff\xc3( \xed\xa0\x80", "bad \uFFFD\uFFFD( \uFFFD\uFFFD\uFFFD"},
                    Case{"Ærø 船 😀", "Ærø 船 😀"}, Case{"\xf4\x90\x80\x80", "\uFFFD\uFFFD\uFFFD\uFFFD"},
                    Case{"\xFF"
                         "1234567831\xFE",
                         "\uFFFD1234567831\uFFFD"}));

TEST(VisibleOutput, MarksOfColourBecomeEscapesAndNothingElseDoes) {
  std::ostringstream stream;
  {
    const VisibleOutput output(stream);
    stream << color_mark("1;31") << "wrong\x1b[0m" << color_mark("0") << std::flush;
    EXPECT_EQ(stream.str(), "\x1b[1;31mwrong␛[0m\x1b[0m");
  }
  stream << "\x1b";
  EXPECT_EQ(stream.str().back(), '\x1b') << "as before";
}

}  // namespace
}  // namespace dingle
