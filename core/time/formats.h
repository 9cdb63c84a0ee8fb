// Scanners for the common written forms of a time.
//
// Each takes the text [at, end), reads the longest time of its form that starts at `at`, fills `out` and
// returns the place behind it; or returns nullptr when there is none, or when a field is out of its range:
// never a wrong time. None reads beyond `end`. No allocation; some ten nanoseconds a call. Fractions have up
// to nine digits that count; further digits are read and dropped. A zone is `Z`, `UTC`, `GMT`, +hh:mm, +hhmm
// or +hh.
#pragma once

#include <cstdint>

namespace dingle {

struct ParsedTime {
  std::int64_t nanoseconds = 0;  // since 1970 UTC
  bool zoneless = false;         // the text named no zone; UTC was assumed
};

// 2026-11-23T10:00:00.125+01:00; also a blank for T, a comma for the dot, no zone, no separators
// (20261123T100000Z).
const char* scan_rfc3339(const char* at, const char* end, ParsedTime& out);
// 23/Nov/2026:10:00:00 +0100, as access logs write it.
const char* scan_clf_time(const char* at, const char* end, ParsedTime& out);
// Nov 23 10:00:00, RFC 3164 section 4.1.2, also with a fraction, also with a year after the day or at the
// end. Without a year: the one that brings the time nearest to `reference` (ns since 1970 UTC), at most a day
// after it.
const char* scan_syslog_time(const char* at, const char* end, std::int64_t reference, ParsedTime& out);
// Mon, 23 Nov 2026 10:00:00 +0000, RFC 5322 section 3.3; the day's name may be missing.
const char* scan_mail_time(const char* at, const char* end, ParsedTime& out);
// Mon Nov 23 10:00:00 2026, as C's asctime writes it; a zone may stand before the year.
const char* scan_ctime(const char* at, const char* end, ParsedTime& out);
// 2026/11/23 10:00:00
const char* scan_slash_time(const char* at, const char* end, ParsedTime& out);
// 23.11.2026 10:00:00
const char* scan_dot_time(const char* at, const char* end, ParsedTime& out);
// 1795428000 seconds, or 13, 16 or 19 digits for milliseconds, microseconds, nanoseconds; with decimals.
const char* scan_epoch_time(const char* at, const char* end, ParsedTime& out);
// Any of these, tried in this order: RFC 3339, access log, slash, dot, RFC 5322, ctime, syslog, epoch.
const char* scan_any_time(const char* at, const char* end, std::int64_t reference, ParsedTime& out);

}  // namespace dingle
