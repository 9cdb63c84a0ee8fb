#include "core/time/formats.h"

#include <cstring>
#include <string_view>

#include "core/time/instant.h"

namespace dingle {
namespace {

// A place in the text that is moved forward by what matches. Every `take` leaves the place where it is on
// failure.
struct Cursor {
  const char* at;
  const char* end;

  bool more(std::ptrdiff_t n) const { return end - at >= n; }
  bool take(char c) {
    if (at == end || *at != c) return false;
    ++at;
    return true;
  }
  bool take_any(const char* set) {
    if (at == end || *at == '\0' || std::strchr(set, *at) == nullptr) return false;
    ++at;
    return true;
  }
  bool take(std::string_view text) {
    if (!more(static_cast<std::ptrdiff_t>(text.size())) || std::memcmp(at, text.data(), text.size()) != 0)
      return false;
    at += text.size();
    return true;
  }
  // Exactly n digits.
  bool digits(int n, int& value) {
    if (!more(n)) return false;
    int v = 0;
    for (int i = 0; i < n; ++i) {
      unsigned d = static_cast<unsigned char>(at[i]) - unsigned{'0'};
      if (d > 9) return false;
      v = v * 10 + static_cast<int>(d);
    }
    at += n;
    value = v;
    return true;
  }
  // One or two digits, or a blank and a digit.
  bool short_day(int& value) {
    if (more(2) && at[0] == ' ' && at[1] >= '1' && at[1] <= '9') {
      value = at[1] - '0';
      at += 2;
      return true;
    }
    return digits(2, value) || digits(1, value);
  }
};

bool month_name(Cursor& c, int& month) {
  static constexpr char kNames[] = "JanFebMarAprMayJunJulAugSepOctNovDec";
  if (!c.more(3)) return false;
  for (int m = 0; m < 12; ++m)
    if (std::memcmp(c.at, kNames + 3 * m, 3) == 0) {
      c.at += 3;
      month = m + 1;
      return true;
    }
  return false;
}

bool day_name(Cursor& c) {
  for (const char* name : {"Mon", "Tue", "Wed", "Thu", "Fri", "Sat", "Sun"})
    if (c.take(std::string_view(name))) return true;
  return false;
}

bool clock(Cursor& c, Civil& t) {
  Cursor start = c;
  if (c.digits(2, t.hour) && c.take(':') && c.digits(2, t.minute) && c.take(':') && c.digits(2, t.second))
    return true;
  c = start;
  return false;
}

// A fraction of a second after a dot or comma, if one follows.
void fraction(Cursor& c, Civil& t) {
  if (!c.more(2) || (c.at[0] != '.' && c.at[0] != ',') || c.at[1] < '0' || c.at[1] > '9') return;
  ++c.at;
  int scale = 100'000'000;
  for (; c.at != c.end && *c.at >= '0' && *c.at <= '9'; ++c.at) {
    t.nanosecond += (*c.at - '0') * scale;
    scale /= 10;
  }
}

// A zone, if one follows; its offset from UTC in seconds.
bool zone(Cursor& c, int& offset) {
  offset = 0;
  if (c.take('Z') || c.take('z')) return true;
  if (c.take(std::string_view("UTC")) || c.take(std::string_view("GMT"))) return true;
  Cursor start = c;
  if (c.at == c.end || (*c.at != '+' && *c.at != '-')) return false;
  int sign = *c.at++ == '-' ? -1 : 1, hours = 0, minutes = 0;
  if (c.digits(2, hours)) {
    Cursor after_hours = c;
    c.take(':');
    if (!c.digits(2, minutes)) c = after_hours, minutes = 0;
    if (hours <= 23 && minutes <= 59) {
      offset = sign * (hours * 3600 + minutes * 60);
      return true;
    }
  }
  c = start;
  return false;
}

const char* finish(const Cursor& c, const Civil& t, bool has_zone, int offset, ParsedTime& out) {
  auto instant = instant_from_civil(t);
  if (!instant) return nullptr;
  out = {*instant - offset * kSecond, !has_zone};
  return c.at;
}

// A zone that may follow after one blank.
bool spaced_zone(Cursor& c, int& offset) {
  Cursor start = c;
  if (zone(c, offset)) return true;
  if (c.take(' ') && zone(c, offset)) return true;
  c = start;
  return false;
}

const char* numeric_date_time(Cursor c, Civil t, ParsedTime& out) {
  if (!c.take_any(" T-") || !clock(c, t)) return nullptr;
  fraction(c, t);
  int offset = 0;
  bool has_zone = spaced_zone(c, offset);
  return finish(c, t, has_zone, offset, out);
}

}  // namespace

const char* scan_rfc3339(const char* at, const char* end, ParsedTime& out) {
  Cursor c{at, end};
  Civil t;
  if (!c.digits(4, t.year)) return nullptr;
  if (c.take('-')) {
    if (!c.digits(2, t.month) || !c.take('-') || !c.digits(2, t.day) || !c.take_any("T t_") || !clock(c, t))
      return nullptr;
  } else if (!c.digits(2, t.month) || !c.digits(2, t.day) || !c.take_any("Tt") || !c.digits(2, t.hour) ||
             !c.digits(2, t.minute) || !c.digits(2, t.second)) {
    return nullptr;
  }
  fraction(c, t);
  int offset = 0;
  bool has_zone = spaced_zone(c, offset);
  return finish(c, t, has_zone, offset, out);
}

// The whole form with its zone, "23/Nov/2026:10:00:00 +0100", has a fixed layout. Lines of a busy log often
// carry the same second as the line before: the last text that was read is remembered, by thread.
const char* scan_clf_time(const char* at, const char* end, ParsedTime& out) {
  constexpr std::ptrdiff_t kLength = 26;
  thread_local char last[kLength] = {};
  thread_local std::int64_t last_instant = 0;
  const bool whole = end - at >= kLength && at[20] == ' ';
  if (whole && std::memcmp(at, last, kLength) == 0) {
    out = {last_instant, false};
    return at + kLength;
  }
  Cursor c{at, end};
  Civil t;
  if (!c.digits(2, t.day) || !c.take('/') || !month_name(c, t.month) || !c.take('/') ||
      !c.digits(4, t.year) || !c.take(':') || !clock(c, t))
    return nullptr;
  int offset = 0;
  bool has_zone = spaced_zone(c, offset);
  const char* place = finish(c, t, has_zone, offset, out);
  if (whole && place == at + kLength) {
    std::memcpy(last, at, kLength);
    last_instant = out.nanoseconds;
  }
  return place;
}

const char* scan_syslog_time(const char* at, const char* end, std::int64_t reference, ParsedTime& out) {
  Cursor c{at, end};
  Civil t;
  if (!month_name(c, t.month) || !c.take(' ') || !c.short_day(t.day) || !c.take(' ')) return nullptr;
  Cursor before_year = c;
  bool has_year = c.digits(4, t.year) && c.take(' ');
  if (!has_year) c = before_year;
  if (!clock(c, t)) return nullptr;
  fraction(c, t);
  if (!has_year) {
    Cursor before = c;
    has_year = c.take(' ') && c.digits(4, t.year) && t.year >= 1678 && t.year <= 2261 &&
               (c.at == c.end || *c.at == ' ' || *c.at == ':');
    if (!has_year) c = before;
  }
  int offset = 0;
  bool has_zone = zone(c, offset);
  if (has_year) return finish(c, t, has_zone, offset, out);
  int year = civil_from_instant(reference + kDay).year;
  for (int back = 0; back < 9; ++back) {  // nine: a 29 February needs a leap year
    t.year = year - back;
    if (const char* place = finish(c, t, has_zone, offset, out)) {
      if (out.nanoseconds <= reference + kDay) return place;
    } else if (t.month != 2 || t.day != 29) {
      return nullptr;
    }
  }
  return nullptr;
}

const char* scan_mail_time(const char* at, const char* end, ParsedTime& out) {
  Cursor c{at, end};
  Civil t;
  if (day_name(c) && !(c.take(',') && c.take(' '))) return nullptr;
  if (!(c.digits(2, t.day) || c.digits(1, t.day)) || !c.take(' ') || !month_name(c, t.month) ||
      !c.take(' ') || !c.digits(4, t.year) || !c.take(' ') || !clock(c, t))
    return nullptr;
  fraction(c, t);
  int offset = 0;
  bool has_zone = spaced_zone(c, offset);
  return finish(c, t, has_zone, offset, out);
}

const char* scan_ctime(const char* at, const char* end, ParsedTime& out) {
  Cursor c{at, end};
  Civil t;
  if (!day_name(c) || !c.take(' ') || !month_name(c, t.month) || !c.take(' ') || !c.short_day(t.day) ||
      !c.take(' ') || !clock(c, t))
    return nullptr;
  fraction(c, t);
  int offset = 0;
  bool has_zone = spaced_zone(c, offset);
  if (!c.take(' ') || !c.digits(4, t.year)) return nullptr;
  return finish(c, t, has_zone, offset, out);
}

const char* scan_slash_time(const char* at, const char* end, ParsedTime& out) {
  Cursor c{at, end};
  Civil t;
  if (!c.digits(4, t.year) || !c.take('/') || !c.digits(2, t.month) || !c.take('/') || !c.digits(2, t.day))
    return nullptr;
  return numeric_date_time(c, t, out);
}

const char* scan_dot_time(const char* at, const char* end, ParsedTime& out) {
  Cursor c{at, end};
  Civil t;
  if (!c.digits(2, t.day) || !c.take('.') || !c.digits(2, t.month) || !c.take('.') || !c.digits(4, t.year))
    return nullptr;
  return numeric_date_time(c, t, out);
}

const char* scan_epoch_time(const char* at, const char* end, ParsedTime& out) {
  Cursor c{at, end};
  std::uint64_t whole = 0;
  int digits = 0;
  for (; c.at != c.end && *c.at >= '0' && *c.at <= '9' && digits < 20; ++c.at, ++digits)
    whole = whole * 10 + static_cast<std::uint64_t>(*c.at - '0');
  std::uint64_t unit = digits <= 8    ? 0
                       : digits <= 11 ? 1'000'000'000
                       : digits <= 14 ? 1'000'000
                       : digits <= 17 ? 1000
                       : digits <= 19 ? 1
                                      : 0;
  if (unit == 0 || whole > static_cast<std::uint64_t>(INT64_MAX) / unit) return nullptr;
  Civil decimals;  // its nanosecond: the decimals as billionths of the unit
  fraction(c, decimals);
  std::uint64_t total = whole * unit + static_cast<std::uint64_t>(decimals.nanosecond) * unit / 1'000'000'000;
  if (total > static_cast<std::uint64_t>(INT64_MAX)) return nullptr;
  out = {static_cast<std::int64_t>(total), false};
  return c.at;
}

const char* scan_any_time(const char* at, const char* end, std::int64_t reference, ParsedTime& out) {
  for (auto scan : {scan_rfc3339, scan_clf_time, scan_slash_time, scan_dot_time, scan_mail_time, scan_ctime})
    if (const char* place = scan(at, end, out)) return place;
  if (const char* place = scan_syslog_time(at, end, reference, out)) return place;
  return scan_epoch_time(at, end, out);
}

}  // namespace dingle
