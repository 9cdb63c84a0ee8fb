#include "client/event_page.h"

#include <gtest/gtest.h>

namespace dingle {
namespace {

using namespace std::string_literals;

EventPage page_of(const std::string& events, const std::string& more = "") {
  auto page =
      read_event_page("{\"events\":[" + events + "]," + more + "\"changes\":7,\"scanned\":{\"matched\":2}}");
  EXPECT_TRUE(page) << events;
  return page ? std::move(*page) : EventPage();
}

TEST(EventPages, AreTakenApartWithoutTouchingTheEvents) {
  const EventPage page = page_of(R"({"body":"a } ] \" b","n":1}, {"list":[1,{"x":2}],"none":null})",
                                 R"("next":"17-1-2-3-4","cut_at_bytes":5,)");
  ASSERT_EQ(page.events.size(), 2u);
  EXPECT_EQ(page.events[0], R"({"body":"a } ] \" b","n":1})");
  EXPECT_EQ(page.events[1], R"({"list":[1,{"x":2}],"none":null})");
  EXPECT_EQ(page.next, "17-1-2-3-4");
  EXPECT_EQ(page.changes, 7);
  EXPECT_EQ(page.scanned["matched"], 2);
  EXPECT_TRUE(page_of("").events.empty());
  EXPECT_EQ(page_of("").next, "");
}

TEST(EventPages, MembersAreWhatStandsThere) {
  const EventPage page = page_of(
      R"({"body":"\u00e5\n","n": -1.50e3 ,"list":[ 1,2 ],"map":{"a":{}},"yes":true,"none":null,"a\"b\\c":"odd","n2":3})");
  for (const auto& [field, text] : std::vector<std::pair<std::string, std::string>>{{"body", R"("\u00e5\n")"},
                                                                                    {"n", "-1.50e3"},
                                                                                    {"list", "[ 1,2 ]"},
                                                                                    {"map", R"({"a":{}})"},
                                                                                    {"yes", "true"},
                                                                                    {"none", "null"},
                                                                                    {"a\"b\\c", "\"odd\""},
                                                                                    {"n2", "3"}})
    EXPECT_EQ(member_of(page, page.events[0], field), text) << field;
  EXPECT_EQ(member_of(page, page.events[0], "absent"), std::nullopt);
  EXPECT_EQ(member_of(page, page.events[0], "a"), std::nullopt) << "only the event's own";
}

TEST(EventPages, AreMovedWithTheirEvents) {
  std::vector<EventPage> pages;
  for (int i = 0; i < 20; ++i) pages.push_back(page_of("{\"n\":" + std::to_string(i) + "}"));
  for (int i = 0; i < 20; ++i)
    EXPECT_EQ(
        member_of(pages[static_cast<std::size_t>(i)], pages[static_cast<std::size_t>(i)].events[0], "n"),
        std::to_string(i));
}

TEST(EventPages, WhatIsNoneIsNone) {
  for (const std::string& answer :
       {""s, "[]"s, "{"s, "{}"s, "no JSON"s, R"({"events":7,"scanned":{}})"s,
        R"({"events":[1],"scanned":{}})"s, R"({"events":[{"a":1],"scanned":{}})"s,
        R"({"events":[{"a":1}],"scanned":{}} x)"s, R"({"events":[],"scanned":[]})"s,
        R"({"events":[],"next":5,"scanned":{}})"s, "{\"events\":[{\"a\":\"\x01\"}"s})
    EXPECT_FALSE(read_event_page(answer)) << answer;
}

}  // namespace
}  // namespace dingle
