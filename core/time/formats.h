// Scanners for the common written forms of a time.
//
// Each takes the text [at, end), reads the longest time of its form that starts at `at`, fills `out` and
// returns the place behind it; or returns nullptr when there is none, or when a field is out of its range:
// never a wrong time. None reads beyond `end`. No allocation but for the first use of a zone's name; some ten
// to forty nanoseconds a call. Fractions, after a dot or comma, have up to nine digits that count; further
// digits are read and dropped. A zone is `Z`, +hh:mm, +hhmm, +hh, a common abbreviation (UTC, GMT, CET, CEST,
// those of RFC 5322 section 4.3, ...) or a name of the tz database (Europe/Stockholm), and may follow a
// blank.
#pragma once

#include <cstdint>
#include <memory>
#include <string>
#include <string_view>

#include "core/result.h"
#include "core/time/zone.h"

namespace dingle {

struct ParsedTime {
  std::int64_t nanoseconds = 0;  // since 1970 UTC
  bool zoneless = false;         // the text named no zone; UTC was assumed
};

// In a date such as 03/04/2026. `either`: only what can be read in one way.
enum class DayOrder { either, day_first, month_first };

// 2026-11-23T10:00:00.125+01:00; also a blank, a dash or a colon for T (behind a dash 10.00.00 too), a comma for the dot,
// no zone, no seconds, no separators (20261123T100000Z).
const char* scan_rfc3339(const char* at, const char* end, ParsedTime& out);
// 23/Nov/2026:10:00:00 +0100, as access logs write it.
const char* scan_clf_time(const char* at, const char* end, ParsedTime& out);
// Nov 23 10:00:00, RFC 3164 section 4.1.2, also with a fraction, also with a year after the day or at the
// end. Without a year: the one that brings the time nearest to `reference` (ns since 1970 UTC), at most a day
// after it.
const char* scan_syslog_time(const char* at, const char* end, std::int64_t reference, ParsedTime& out);
// Mon, 23 Nov 2026 10:00:00 +0000, RFC 5322 section 3.3; the day's name may be missing; also with dashes, then
// with two digits for a year since 2000 too, or the month in front (23-Nov-2026, 23-Nov-26, Nov-23-26).
const char* scan_mail_time(const char* at, const char* end, ParsedTime& out);
// Mon Nov 23 10:00:00 2026, as C's asctime writes it; a zone may stand before the year.
const char* scan_ctime(const char* at, const char* end, ParsedTime& out);
// 2026/11/23 10:00:00, also with dots or colons in the date.
const char* scan_slash_time(const char* at, const char* end, ParsedTime& out);
// 23.11.2026 10:00:00
const char* scan_dot_time(const char* at, const char* end, ParsedTime& out);
// 11/23/2026 10:00:00 PM, 23/11/2026 22:00:00, also with dashes.
const char* scan_ordered_time(const char* at, const char* end, DayOrder order, ParsedTime& out);
// 261123 10:00:00, 261123  9:00:00, 261123 100000: six digits for a date since 2000.
const char* scan_compact_time(const char* at, const char* end, ParsedTime& out);
// 11-23 10:00:00.125: the month in front, and no year (that is found as for scan_syslog_time).
const char* scan_yearless_time(const char* at, const char* end, std::int64_t reference, ParsedTime& out);
// 10:00:00.125 alone: of the day with which it lies within 16 h before and 8 h after `reference`.
const char* scan_clock_time(const char* at, const char* end, std::int64_t reference, ParsedTime& out);
// @4000000065604d2a1dcd6500: a TAI64N label. It is read as nearly all that write them do, which add 2^62 + 10 to the
// seconds since 1970 UTC; those who follow leap seconds write labels that lie 27 s later.
const char* scan_tai64n(const char* at, const char* end, ParsedTime& out);
// 1795428000 seconds, or 13, 16 or 19 digits for milliseconds, microseconds, nanoseconds; with decimals.
const char* scan_epoch_time(const char* at, const char* end, ParsedTime& out);
// Any of these; what stands at certain places tells which. The name of a zone may stand in front (CET 2026-11-23
// 10:00:00).
const char* scan_any_time(const char* at, const char* end, std::int64_t reference, DayOrder order,
                          ParsedTime& out);

// Why the last scan in this thread that recognised a form answered nullptr all the same ("November has no day
// 31"), or "". Forgets it.
std::string take_time_problem();

// A form given by conversions as strptime of POSIX has them: %Y %y %m %d %e %j %H %I %M %S %p %b %B %h %a %A
// %z %Z %s %F %T %D %R %n %t %%, and %f for the digits of a fraction. A blank in the form matches any run of
// blanks; other bytes match themselves. What is missing of the date comes from the time of reading.
class TimeFormat {
 public:
  static Result<TimeFormat> compile(std::string_view text);
  const char* scan(const char* at, const char* end, std::int64_t reference, ParsedTime& out) const;
  const std::string& text() const { return text_; }

 private:
  std::string text_;  // with %F, %T, %D and %R replaced by what they stand for
  bool has_year_ = false, has_month_ = false, has_day_ = false;
};

}  // namespace dingle
