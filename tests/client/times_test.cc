#include "client/times.h"

#include <gtest/gtest.h>

#include "core/time/instant.h"

namespace dingle {
namespace {

struct ShownCase {
  const char *zone, *instant, *shown;
};
class ShownTime : public testing::TestWithParam<ShownCase> {};
TEST_P(ShownTime, IsMarkedAndReadBack) {
  Client client;
  client.zone = *Zone::named(GetParam().zone);
  const std::string text = GetParam().instant;
  EXPECT_EQ(shown_time(client, text), GetParam().shown);
  EXPECT_EQ(shown_time(client, *parse_moment(text, 0)), GetParam().shown);
  EXPECT_EQ(*parse_moment(asked_time(client, GetParam().shown), 0), *parse_moment(text, 0));
}
INSTANTIATE_TEST_SUITE_P(
    Zones, ShownTime,
    testing::Values(ShownCase{"UTC", "2026-11-23T10:00:00.125Z", "2026-11-23 10:00:00.125Z"},
                    ShownCase{"Europe/Oslo", "2026-11-23T10:00:00Z", "2026-11-23 11:00:00.000+01:00"},
                    ShownCase{"Europe/Oslo", "2026-07-01T22:30:00Z", "2026-07-02 00:30:00.000+02:00"},
                    ShownCase{"America/St_Johns", "2026-11-23T02:00:00Z", "2026-11-22 22:30:00.000-03:30"},
                    ShownCase{"+14:00", "2026-12-31T12:00:00Z", "2027-01-01 02:00:00.000+14:00"}));

TEST(AskedTime, WithoutAZoneIsOfTheChosenOne) {
  Client client;
  client.zone = *Zone::named("Europe/Oslo");
  EXPECT_EQ(asked_time(client, "2026-11-23T10:00"), "2026-11-23T09:00:00Z");
  EXPECT_EQ(asked_time(client, "2026-11-23 10:00:00.5"), "2026-11-23T09:00:00.500Z");
  EXPECT_EQ(asked_time(client, "2026-07-01"), "2026-06-30T22:00:00Z");
  EXPECT_EQ(asked_time(client, "2026-11-23T10:00:00Z"), "2026-11-23T10:00:00Z");
  EXPECT_EQ(asked_time(client, "2026-11-23T10:00:00-05:00"), "2026-11-23T10:00:00-05:00");
  for (const char* other : {"15m", "now", "", "soon", "2026-13-01"})
    EXPECT_EQ(asked_time(client, other), other);
}

TEST(ShownTimes, WhatIsNoTimeIsShownAsItIs) {
  EXPECT_EQ(shown_time(Client{}, "soon\n"), "soon⏎");
  EXPECT_EQ(shown_second(Client{}, ""), "");
  EXPECT_EQ(shown_second(Client{}, "2026-11-23T10:00:00.125Z"), "2026-11-23 10:00:00Z");
}

}  // namespace
}  // namespace dingle
