// Instants as 64-bit nanoseconds since 1970-01-01T00:00:00Z (years 1677 to 2262), without leap seconds as in
// POSIX.
#pragma once

#include <cstdint>
#include <optional>
#include <string>
#include <string_view>

namespace dingle {

inline constexpr std::int64_t kSecond = 1'000'000'000;
inline constexpr std::int64_t kDay = 86'400 * kSecond;

// A date and a time of day of the proleptic Gregorian calendar (ISO 8601). Fields hold what was read,
// unchecked.
struct Civil {
  int year = 1970, month = 1, day = 1, hour = 0, minute = 0, second = 0, nanosecond = 0;
};

// Days since 1970-01-01.
constexpr std::int64_t days_from_civil(int y, int m, int d) {
  y -= m <= 2;
  const int era = (y >= 0 ? y : y - 399) / 400;
  const unsigned yoe = static_cast<unsigned>(y - era * 400);
  const unsigned doy =
      (153u * static_cast<unsigned>(m + (m > 2 ? -3 : 9)) + 2) / 5 + static_cast<unsigned>(d) - 1;
  const unsigned doe = yoe * 365 + yoe / 4 - yoe / 100 + doy;
  return era * 146097LL + static_cast<std::int64_t>(doe) - 719468;
}

// The instant of a civil time in UTC; nothing when a field is out of its range (30 February, hour 24) or the
// year is not within 1678 to 2261. A second of 60 (a leap second) is the first instant of the next minute.
std::optional<std::int64_t> instant_from_civil(const Civil& civil);
Civil civil_from_instant(std::int64_t nanoseconds);

// RFC 3339 in UTC with as many digits of the fraction as needed, in threes: 2026-11-23T10:00:00.125Z
std::string format_rfc3339(std::int64_t nanoseconds);
// For tables: 2026-11-23 10:00:00.125, always three digits.
std::string format_short(std::int64_t nanoseconds);

// "200ms", "30s", "15m", "6h", "30d", "2w": a whole number and a unit, in nanoseconds. Nothing if it is none.
std::optional<std::int64_t> parse_duration(std::string_view text);
std::string format_duration(std::int64_t nanoseconds);  // the shortest exact form: 90s, 6h, 200ms

// A moment as a person writes it: RFC 3339 (date alone, without seconds, without zone as UTC), `now`, or a
// duration before now ("15m"). Nothing if it is none.
std::optional<std::int64_t> parse_moment(std::string_view text, std::int64_t now);

std::int64_t system_now();  // the system's clock

}  // namespace dingle
