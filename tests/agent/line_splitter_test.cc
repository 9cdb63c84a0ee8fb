#include "agent/sources/line_splitter.h"

#include <gtest/gtest.h>

namespace dingle {
namespace {

std::string shown(const Split& s) {
  std::string out;
  for (const SourceLine& e : s.events)
    out += (out.empty() ? "" : "|") + std::string(e.text) + "@" + std::to_string(e.position);
  return out + " consumed " + std::to_string(s.consumed);
}

SplitSettings joining(std::size_t most_lines = 500) {
  SplitSettings s;
  std::vector<Problem> problems;
  s.starts_with = Template::compile("{:int} ", PatternLibrary(), {.open_end = true}, problems);
  s.most_lines = most_lines;
  return s;
}

TEST(Splitter, TheUnfinishedLineWaits) {
  EXPECT_EQ(shown(split("a\nb\r\n\nc", {}, false, false)), "a@0|b@2 consumed 6");
  EXPECT_EQ(shown(split("a\nc", {}, false, true)), "a@0|c@2 consumed 3");
}

TEST(Splitter, LinesAddUp) {
  Split s = split("1 a\n x\n y\n\n2 b\n\n3 c\n", joining(), false, true);
  EXPECT_EQ(s.lines, 7u);
  EXPECT_EQ(s.lines, s.events.size() + s.empty + s.merged);
  EXPECT_EQ(s.events.size(), 3u);
}

TEST(Splitter, JoinsAndKeepsTheLastEventOpen) {
  EXPECT_EQ(shown(split("1 a\n x\n y\n2 b\n", joining(), false, false)), "1 a\n x\n y@0 consumed 10");
  EXPECT_EQ(shown(split("1 a\n x\n y\n2 b\n", joining(), false, true)), "1 a\n x\n y@0|2 b@10 consumed 14");
  Split s = split("1 a\n x\n", joining(), false, false);
  EXPECT_EQ(shown(s), " consumed 0");
  EXPECT_EQ(s.lines + s.merged + s.empty, 0u) << "what is held is not counted yet";
}

TEST(Splitter, JoinsStopAtTheirLimit) {
  EXPECT_EQ(shown(split("1 a\n x\n y\n z\n", joining(2), false, true)), "1 a\n x@0| y\n z@7 consumed 13");
}

TEST(Splitter, LongLinesAreCutAndTheRestSkipped) {
  SplitSettings s;
  s.longest_line = 4;
  Split whole = split("abcdefgh\nxy\n", s, false, false);
  EXPECT_EQ(shown(whole), "abcd@0|xy@9 consumed 12");
  EXPECT_EQ(whole.cut_bytes, 4u);
  Split begun = split("abcdefgh", s, false, false);
  EXPECT_EQ(shown(begun), "abcd@0 consumed 8");
  EXPECT_TRUE(begun.skipping);
  Split middle = split("ijkl", s, true, false);
  EXPECT_EQ(shown(middle), " consumed 4");
  EXPECT_TRUE(middle.skipping);
  EXPECT_EQ(shown(split("mn\nxy\n", s, true, false)), "xy@3 consumed 6");
}

// However a text is cut into chunks, the same events come out.
TEST(Splitter, ChunksDoNotMatter) {
  std::string text;
  for (int i = 0; i < 60; ++i) text += i % 4 ? " more of it\n" : std::to_string(i) + " begins\n";
  for (bool joins : {false, true}) {
    const SplitSettings settings = joins ? joining() : SplitSettings();
    auto all = [&](std::size_t step) {
      std::string out;
      std::size_t at = 0;
      for (std::size_t end = std::min(step, text.size());; end = std::min(end + step, text.size())) {
        Split s = split(std::string_view(text).substr(at, end - at), settings, false, end == text.size());
        for (const SourceLine& e : s.events)
          out += std::string(e.text) + "@" + std::to_string(at + e.position) + "\n";
        at += s.consumed;
        if (end == text.size()) return out;
      }
    };
    const std::string expected = all(text.size());
    for (std::size_t step : {1, 2, 3, 7, 20, 100}) EXPECT_EQ(all(step), expected) << step;
  }
}

TEST(Splitter, IndentedLinesGoOn) {
  SplitSettings s;
  s.indented = true;
  EXPECT_EQ(shown(split("a\n\tx\n y\nb\n", s, false, true)), "a\n\tx\n y@0|b@8 consumed 10");
  std::vector<Problem> problems;
  s.continues_with = Template::compile("Caused by: {:rest}", PatternLibrary(), {.open_end = true}, problems);
  EXPECT_EQ(shown(split("a\n x\nCaused by: b\nc\n", s, false, true)),
            "a\n x\nCaused by: b@0|c@18 consumed 20");
}

TEST(Splitter, QuotesThatAreOpenGoOn) {
  SplitSettings s;
  s.quoted = true;
  EXPECT_EQ(shown(split("a,\"x\n\ny\",b\nc\n\"d\"\n", s, false, false)),
            "a,\"x\n\ny\",b@0|c@11|\"d\"@13 consumed 17");
  EXPECT_EQ(shown(split("c\na,\"x\ny\n", s, false, false)), "c@0 consumed 2") << "it may be closed yet";
  EXPECT_EQ(shown(split("a,\"\"\"x\ny\"\nb\n", s, false, false)), "a,\"\"\"x\ny\"@0|b@10 consumed 12");
  EXPECT_EQ(shown(split("a \"\nb\n", s, false, true)), "a \"\nb@0 consumed 6");
  s.most_lines = 2;
  EXPECT_EQ(shown(split("a \"\nb\nc\nd\n", s, false, false)), "a \"\nb@0|c@6|d@8 consumed 10");
  Split counted = split("a,\"x\n\ny\",b\nc\n", {.quoted = true}, false, true);
  EXPECT_EQ(counted.lines, counted.events.size() + counted.empty + counted.merged);
}

}  // namespace
}  // namespace dingle
