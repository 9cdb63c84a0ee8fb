#include "agent/sources/message_splitter.h"

#include <gtest/gtest.h>

#include <string>

#include "net/listener.h"

namespace dingle {
namespace {

// All messages in brackets, then what is left; `step` bytes come at a time.
std::string taken(std::string_view stream, std::size_t step, bool ends = false, std::size_t longest = 20) {
  std::string out, pending;
  MessagePart part;
  for (std::size_t at = 0; at < stream.size(); at += step) {
    pending += stream.substr(at, step);
    const bool last = ends && at + step >= stream.size();
    const Messages m = take_messages(pending, longest, last, part);
    EXPECT_EQ(m.messages, m.events.size() + m.empty);
    for (const SourceLine& line : m.events) {
      EXPECT_EQ(line.text, std::string_view(pending).substr(line.position, line.text.size()));
      out += "[" + std::string(line.text) + "]";
    }
    pending.erase(0, m.consumed);
  }
  return out + pending;
}

struct Case {
  const char *name, *stream, *taken;
  bool ends = false;
};
class MessageStreams : public testing::TestWithParam<Case> {};
TEST_P(MessageStreams, AreCutWhateverComesAtATime) {
  for (std::size_t step : {1, 2, 3, 7, 100})
    EXPECT_EQ(taken(GetParam().stream, step, GetParam().ends), GetParam().taken) << step;
}
INSTANTIATE_TEST_SUITE_P(
    All, MessageStreams,
    testing::Values(
        Case{"Lines", "<13>a\n<13>b\n", "[<13>a][<13>b]"}, Case{"CarriageReturns", "<1>a\r\n", "[<1>a]"},
        Case{"Lengths", "5 <13>a6 <13>bc", "[<13>a][<13>bc]"},
        Case{"LineFeedsWithinALength", "7 <1>a\nbc5 <1>d\n", "[<1>a\nbc][<1>d]"},
        Case{"Mixed", "<1>a\n5 <13>b<1>c\n", "[<1>a][<13>b][<1>c]"},
        Case{"Unfinished", "<1>a\n<1>b", "[<1>a]<1>b"}, Case{"UnfinishedLength", "9 <1>abc", "9 <1>abc"},
        Case{"OnlyDigits", "12", "12"}, Case{"EndsWithoutLineFeed", "<1>a\n<1>b", "[<1>a][<1>b]", true},
        Case{"EndsWithinALength", "9 <1>abc", "[<1>abc]", true},
        Case{"EndsWithinDigits", "<1>a\n12", "[<1>a][12]", true},
        Case{"NoLength", "2026-11-23 a\n", "[2026-11-23 a]"},
        Case{"TooManyDigits", "1234567890 a\n", "[1234567890 a]"}, Case{"Empty", "\n\n<1>a\n", "[<1>a]"},
        Case{"LongLine", "<1>3456789012345678901234567\n<1>b\n", "[<1>34567890123456789][<1>b]"},
        Case{"LongLength", "27 <1>456789012345678901234567<1>b\n", "[<1>45678901234567890][<1>b]"}),
    [](const auto& c) { return c.param.name; });

TEST(MessageStream, EndsAtNul) { EXPECT_EQ(taken(std::string_view("<1>a\0<1>b\0", 10), 4), "[<1>a][<1>b]"); }
TEST(MessageStream, WhatIsCutIsCounted) {
  MessagePart part;
  const Messages m = take_messages("30 12345678901234567890123456789x<1>b\n", 20, false, part);
  EXPECT_EQ(m.cut, 1);
  EXPECT_EQ(m.cut_bytes, 10);
}

TEST(Listeners, AddressesAreChecked) {
  for (const char* good : {"127.0.0.1:0", "[::1]:5514", "localhost:65535"})
    EXPECT_EQ(address_problem(good), "");
  for (const char* bad :
       {"", "5514", ":5514", "127.0.0.1", "127.0.0.1:", "127.0.0.1:65536", "::1:5514", "a:b", "h:1x"})
    EXPECT_NE(address_problem(bad), "") << bad;
}
TEST(Listeners, APortThatIsTakenIsNamed) {
  auto first = listen_on("127.0.0.1:0", Transport::tcp);
  ASSERT_TRUE(first);
  const std::string address = local_address(first->fd());
  auto second = listen_on(address, Transport::tcp);
  ASSERT_FALSE(second);
  EXPECT_EQ(second.problem().message, "cannot listen on " + address + ": Address already in use");
}

}  // namespace
}  // namespace dingle
