#include <gtest/gtest.h>

#include <cstring>

#include "core/time/buckets.h"
#include "core/time/formats.h"
#include "core/time/instant.h"
#include "core/time/zone.h"
#include "tests/core/no_times.h"
#include "tests/core/time_table.h"

namespace dingle {
namespace {

const std::int64_t kReference = *parse_moment("2026-11-23T10:00:00Z", 0);

struct TimeCase {
  const char* text;
  const char* expected;  // nullptr: no time; otherwise all of the text is taken
};
class Times : public testing::TestWithParam<TimeCase> {};
TEST_P(Times, AreRead) {
  ParsedTime t;
  const char* text = GetParam().text;
  const char* end = text + std::strlen(text);
  const char* place = scan_any_time(text, end, kReference, DayOrder::either, t);
  if (GetParam().expected == nullptr) {
    EXPECT_NE(place, end) << text << " read as " << format_rfc3339(t.nanoseconds);
    return;
  }
  ASSERT_EQ(place, end) << text;
  EXPECT_EQ(format_rfc3339(t.nanoseconds), GetParam().expected) << text;
}

TEST(TimeTable, EveryWrittenFormHasItsInstant) {
  for (const WrittenTime& written : kWrittenTimes) {
    ParsedTime t;
    const char* end = written.text + std::strlen(written.text);
    const char* place = scan_any_time(written.text, end, kReference, DayOrder::either, t);
    ASSERT_EQ(place, end) << written.text;
    EXPECT_EQ(format_rfc3339(t.nanoseconds), written.instant) << written.text;
  }
  EXPECT_GE(std::size(kWrittenTimes), 300u);
}

TEST(TimeTable, WhatIsNoTimeIsNone) {
  for (const char* text : kNoTimes) {
    ParsedTime t;
    const char* end = text + std::strlen(text);
    const char* place = scan_any_time(text, end, kReference, DayOrder::either, t);
    EXPECT_TRUE(place != end || place == text) << text << " read as " << format_rfc3339(t.nanoseconds);
  }
}

struct CustomTime {
  const char *format, *text, *expected;
};
class CustomTimes : public testing::TestWithParam<CustomTime> {};
TEST_P(CustomTimes, AreRead) {
  const auto format = TimeFormat::compile(GetParam().format);
  ASSERT_TRUE(format) << format.problem().message;
  ParsedTime t;
  const std::string text = GetParam().text;
  const char* place = format->scan(text.data(), text.data() + text.size(), kReference, t);
  EXPECT_EQ(place == text.data() + text.size() ? format_rfc3339(t.nanoseconds) : "no time",
            GetParam().expected)
      << text;
}
INSTANTIATE_TEST_SUITE_P(
    Formats, CustomTimes,
    testing::Values(CustomTime{"%d.%m.%y %H:%M", "23.11.26 10:00", "2026-11-23T10:00:00Z"},
                    CustomTime{"%m%d/%H%M%S.%f", "1123/100000.125", "2026-11-23T10:00:00.125Z"},
                    CustomTime{"%m%d/%H%M%S.%f", "1231/100000.1", "2025-12-31T10:00:00.100Z"},
                    CustomTime{"%e %B %Y, %I:%M %p", "3 March 2026, 12:05 AM", "2026-03-03T00:05:00Z"},
                    CustomTime{"%e %B %Y, %I:%M %p", "3 March 2026, 13:05 PM", "no time"},
                    CustomTime{"%F %T %Z", "2026-11-23 10:00:00 CET", "2026-11-23T09:00:00Z"},
                    CustomTime{"%F %T%z", "2026-11-23 10:00:00-0800", "2026-11-23T18:00:00Z"},
                    CustomTime{"%Y %j %R", "2024 060 07:30", "2024-02-29T07:30:00Z"},
                    CustomTime{"%Y %j %R", "2023 366 07:30", "no time"},
                    CustomTime{"%H:%M:%S", "09:59:00", "2026-11-23T09:59:00Z"},
                    CustomTime{"%H:%M:%S", "23:59:00", "2026-11-22T23:59:00Z"},
                    CustomTime{"%s", "1795428000.5", "2026-11-23T10:00:00.500Z"},
                    CustomTime{"%a %d %b %Y %T", "Mon  23 Nov 2026 10:00:00", "2026-11-23T10:00:00Z"},
                    CustomTime{"%d%%%m%%%Y %R", "23%11%2026 10:00", "2026-11-23T10:00:00Z"}));

TEST(CustomTimeForms, MistakesAreNamed) {
  auto problem = [](const char* text) { return TimeFormat::compile(text).problem().message; };
  EXPECT_EQ(problem("%Q"), "unknown conversion %Q");
  EXPECT_EQ(problem("%Y%"), "the form ends with a single %");
  EXPECT_EQ(problem("%m.%d"), "the form has neither a time of day nor a whole date");
  EXPECT_EQ(problem("%F %I:%M"), "%I is an hour of 12, and needs %p to tell the half of the day");
}

TEST(TimeProblems, SayWhatIsOutOfRange) {
  auto why = [](const char* text) {
    ParsedTime t;
    scan_any_time(text, text + std::strlen(text), kReference, DayOrder::either, t);
    return take_time_problem();
  };
  EXPECT_EQ(why("2026-11-31T10:00:00Z"), "November 2026 has no day 31");
  EXPECT_EQ(why("2026-11-30T25:00:00Z"), "there is no hour 25");
  EXPECT_NE(why("03/04/2026 10:00:00").find("order=dmy or order=mdy"), std::string::npos);
  EXPECT_EQ(why("2026-11-30T10:00:00Z"), "");
}

INSTANTIATE_TEST_SUITE_P(
    Forms, Times,
    testing::Values(TimeCase{"2026-11-23T10:00:00Z", "2026-11-23T10:00:00Z"},
                    TimeCase{"2026-11-23 10:00:00", "2026-11-23T10:00:00Z"},
                    TimeCase{"2026-11-23T10:00:00.5+01:00", "2026-11-23T09:00:00.500Z"},
                    TimeCase{"2026-11-23 10:00:00,125 -0530", "2026-11-23T15:30:00.125Z"},
                    TimeCase{"20261123T100000Z", "2026-11-23T10:00:00Z"},
                    TimeCase{"2026-11-23T10:00:00.123456789Z", "2026-11-23T10:00:00.123456789Z"},
                    TimeCase{"2026-11-23T10:00:00.1234567891234Z", "2026-11-23T10:00:00.123456789Z"},
                    TimeCase{"2026-11-23T10:00:00+02", "2026-11-23T08:00:00Z"},
                    TimeCase{"23/Nov/2026:10:00:00 +0100", "2026-11-23T09:00:00Z"},
                    TimeCase{"Nov 23 10:00:00", "2026-11-23T10:00:00Z"},
                    TimeCase{"Nov  3 10:00:00.25", "2026-11-03T10:00:00.250Z"},
                    TimeCase{"Dec 31 23:59:59", "2025-12-31T23:59:59Z"},
                    TimeCase{"Nov 24 09:00:00", "2026-11-24T09:00:00Z"},
                    TimeCase{"Nov 23 2024 10:00:00", "2024-11-23T10:00:00Z"},
                    TimeCase{"Feb 29 10:00:00", "2024-02-29T10:00:00Z"},
                    TimeCase{"Mon, 23 Nov 2026 10:00:00 +0000", "2026-11-23T10:00:00Z"},
                    TimeCase{"3 Nov 2026 10:00:00 GMT", "2026-11-03T10:00:00Z"},
                    TimeCase{"Mon Nov 23 10:00:00 2026", "2026-11-23T10:00:00Z"},
                    TimeCase{"2026/11/23 10:00:00", "2026-11-23T10:00:00Z"},
                    TimeCase{"23.11.2026 10:00:00", "2026-11-23T10:00:00Z"},
                    TimeCase{"1795428000", "2026-11-23T10:00:00Z"},
                    TimeCase{"1795428000.125", "2026-11-23T10:00:00.125Z"},
                    TimeCase{"1795428000125", "2026-11-23T10:00:00.125Z"},
                    TimeCase{"1795428000125000", "2026-11-23T10:00:00.125Z"},
                    TimeCase{"1795428000125000001", "2026-11-23T10:00:00.125000001Z"},
                    TimeCase{"2026-06-30T23:59:60Z", "2026-07-01T00:00:00Z"},
                    TimeCase{"2024-02-29T00:00:00Z", "2024-02-29T00:00:00Z"}));

INSTANTIATE_TEST_SUITE_P(
    NoTimes, Times,
    testing::Values(TimeCase{"2026-13-01T00:00:00Z", nullptr}, TimeCase{"2026-02-29T00:00:00Z", nullptr},
                    TimeCase{"2026-11-23T24:00:00Z", nullptr}, TimeCase{"2026-11-23T10:60:00Z", nullptr},
                    TimeCase{"2026-11-23T10:00:61Z", nullptr},
                    TimeCase{"31/Feb/2026:10:00:00 +0000", nullptr}, TimeCase{"Nov 31 10:00:00", nullptr},
                    TimeCase{"yesterday", nullptr}, TimeCase{"12", nullptr},
                    TimeCase{"0000-01-01T00:00:00Z", nullptr}, TimeCase{"9999-01-01T00:00:00Z", nullptr},
                    TimeCase{"99999999999999999999", nullptr}, TimeCase{"", nullptr},
                    TimeCase{"2026-11-23T10", nullptr}));

TEST(Time, ZonelessTimesSaySo) {
  ParsedTime t;
  std::string text = "2026-11-23 10:00:00";
  scan_rfc3339(text.data(), text.data() + text.size(), t);
  EXPECT_TRUE(t.zoneless);
  text += "Z";
  scan_rfc3339(text.data(), text.data() + text.size(), t);
  EXPECT_FALSE(t.zoneless);
}

// With a sanitizer, one byte too far is a report.
TEST(Time, NothingReadsBeyondItsEnd) {
  const auto read = [](const std::string& text) {
    for (std::size_t n = 0; n <= text.size(); ++n) {
      std::unique_ptr<char[]> bytes(new char[n]);
      std::copy(text.data(), text.data() + n, bytes.get());
      const char *at = bytes.get(), *end = at + n;
      ParsedTime t;
      scan_any_time(at, end, kReference, DayOrder::either, t);
      for (const auto scan : {scan_rfc3339, scan_clf_time, scan_mail_time, scan_ctime, scan_slash_time,
                              scan_dot_time, scan_compact_time, scan_tai64n, scan_epoch_time})
        scan(at, end, t);
      for (const auto scan : {scan_syslog_time, scan_yearless_time, scan_clock_time})
        scan(at, end, kReference, t);
      for (const DayOrder order : {DayOrder::day_first, DayOrder::month_first})
        scan_ordered_time(at, end, order, t);
    }
  };
  for (const WrittenTime& written : kWrittenTimes) read(written.text);
  for (const char* text : kNoTimes) read(text);
}

// The last access-log time is remembered: a neighbour that differs in one byte must not be taken for it.
TEST(Time, RememberedTimeIsNoOther) {
  const std::string first = "23/Nov/2026:10:00:00 +0100";
  auto read = [](const std::string& text) {
    ParsedTime t;
    return scan_clf_time(text.data(), text.data() + text.size(), t) == text.data() + text.size()
               ? format_rfc3339(t.nanoseconds)
               : "none";
  };
  for (std::size_t i = 0; i < first.size(); ++i) {
    EXPECT_EQ(read(first), "2026-11-23T09:00:00Z");
    std::string other = first;
    other[i] = other[i] == '1' ? '0' : '1';
    EXPECT_NE(read(other), "2026-11-23T09:00:00Z") << other;
  }
  EXPECT_EQ(read("23/Nov/2026:10:00:00 UTC"), "2026-11-23T10:00:00Z");
  EXPECT_EQ(read("23/Nov/2026:10:00:00"), "2026-11-23T10:00:00Z");
}

TEST(Zone, FollowsDaylightSaving) {
  auto zone = Zone::named("Europe/Oslo");
  ASSERT_TRUE(zone);
  auto local = [&](const char* text) { return format_rfc3339(zone->to_utc(*parse_moment(text, 0))); };
  EXPECT_EQ(local("2026-11-23T10:00:00"), "2026-11-23T09:00:00Z");
  EXPECT_EQ(local("2026-07-01T10:00:00"), "2026-07-01T08:00:00Z");
  EXPECT_EQ(local("2026-03-29T02:30:00"), "2026-03-29T01:30:00Z");  // the gap: the offset from before
  EXPECT_EQ(local("2026-10-25T02:30:00"), "2026-10-25T00:30:00Z");  // twice: the first
}

TEST(Zone, OffsetsAndUnknownNames) {
  EXPECT_EQ(Zone::named("+02:00")->to_utc(0), -7200 * kSecond);
  auto unknown = Zone::named("Europe/Oslu");
  ASSERT_FALSE(unknown);
  EXPECT_EQ(unknown.problem().hint, "did you mean `Europe/Oslo`?");
}

TEST(Buckets, BeginByTheClockOfTheZone) {
  const auto bucket = [](const char* zone, const char* t, std::int64_t length) {
    const TimeBucket b = bucket_at(*parse_moment(t, 0), length, *Zone::named(zone));
    EXPECT_TRUE(b.holds(*parse_moment(t, 0)));
    return format_rfc3339(b.begin) + " " + format_duration(b.end - b.begin);
  };
  const std::int64_t hour = 3600 * kSecond;
  EXPECT_EQ(bucket("UTC", "2026-03-29T12:34:56Z", kDay), "2026-03-29T00:00:00Z 1d");
  EXPECT_EQ(bucket("Europe/Oslo", "2026-03-28T23:00:00Z", kDay), "2026-03-28T23:00:00Z 23h");
  EXPECT_EQ(bucket("Europe/Oslo", "2026-03-29T21:59:59Z", kDay), "2026-03-28T23:00:00Z 23h");
  EXPECT_EQ(bucket("Europe/Oslo", "2026-10-25T12:00:00Z", kDay), "2026-10-24T22:00:00Z 25h");
  EXPECT_EQ(bucket("Europe/Oslo", "2026-10-25T01:30:00Z", 2 * hour), "2026-10-25T00:00:00Z 3h");
  EXPECT_EQ(bucket("Europe/Oslo", "2026-10-25T01:30:00Z", hour), "2026-10-25T01:00:00Z 1h")
      << "the second 2:30";
  EXPECT_EQ(bucket("Asia/Kolkata", "2026-10-25T01:35:00Z", hour), "2026-10-25T01:30:00Z 1h");
  EXPECT_EQ(bucket("-03:00", "1969-12-31T02:00:00Z", 6 * hour), "1969-12-30T21:00:00Z 6h");
}

// One behind the other, and each time in its own, whatever the zone does.
TEST(Buckets, CoverAYearWithoutGapOrOverlap) {
  for (const char* zone :
       {"America/New_York", "America/Sao_Paulo", "Australia/Lord_Howe", "Asia/Kathmandu", "UTC"})
    for (const std::int64_t minutes : {40, 60, 90, 120, 6 * 60, 24 * 60, 72 * 60}) {
      const std::int64_t length = minutes * 60 * kSecond;
      const Zone z = *Zone::named(zone);
      std::int64_t t = *parse_moment("2018-01-01T00:30:00Z", 0);
      for (int i = 0; i < 8760 * 60 / minutes; ++i) {
        const TimeBucket b = bucket_at(t, length, z);
        ASSERT_TRUE(b.holds(t)) << zone << minutes << format_rfc3339(t);
        ASSERT_EQ(bucket_at(b.end - 1, length, z).begin, b.begin) << zone << format_rfc3339(t);
        t = b.end;
        ASSERT_EQ(bucket_at(t, length, z).begin, t) << zone << minutes << format_rfc3339(t);
      }
    }
}

TEST(Buckets, AtTheEndsOfTime) {
  for (const char* zone : {"UTC", "Europe/Oslo", "+14:00"})
    for (const std::int64_t length : {std::int64_t{1}, kDay, INT64_MAX})
      for (const std::int64_t t :
           {INT64_MIN, INT64_MIN + 1, std::int64_t{-1}, std::int64_t{0}, INT64_MAX - 1}) {
        const TimeBucket b = bucket_at(t, length, *Zone::named(zone));
        EXPECT_TRUE(b.holds(t)) << zone << " " << length << " " << t;
      }
}

TEST(Duration, ReadAndWritten) {
  EXPECT_EQ(parse_duration("200ms"), 200'000'000);
  EXPECT_EQ(parse_duration("2w"), 14 * kDay);
  EXPECT_FALSE(parse_duration("5 m"));
  EXPECT_FALSE(parse_duration("m"));
  EXPECT_FALSE(parse_duration("99999999999999d"));
  EXPECT_EQ(format_duration(90 * kSecond), "90s");
  EXPECT_EQ(format_duration(3600 * kSecond), "1h");
}

TEST(Moment, AsPeopleWriteIt) {
  EXPECT_EQ(format_rfc3339(*parse_moment("2026-11-23", 0)), "2026-11-23T00:00:00Z");
  EXPECT_EQ(format_rfc3339(*parse_moment("2026-11-23T10:00", 0)), "2026-11-23T10:00:00Z");
  EXPECT_EQ(*parse_moment("15m", kReference), kReference - 900 * kSecond);
  EXPECT_FALSE(parse_moment("soon", 0));
}

}  // namespace
}  // namespace dingle
