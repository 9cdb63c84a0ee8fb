#include "core/time/formats.h"

#include <algorithm>
#include <cstring>

#include "core/ascii.h"
#include "core/time/cursor.h"

namespace dingle {

using namespace time_scan;

namespace {

// 9:05:00, as it is written with AM and PM.
bool short_clock(Cursor& c, Civil& t) {
  Cursor start = c;
  if (c.digits(1, t.hour) && c.take(':') && c.digits(2, t.minute) && c.take(':') && c.digits(2, t.second))
    return true;
  c = start;
  return false;
}

// Six digits: the year of the century, month, day; or hour, minute, second.
bool three_pairs(Cursor& c, int& first, int& second, int& third) {
  Cursor start = c;
  if (c.two_digits(first) && c.two_digits(second) && c.two_digits(third)) return true;
  c = start;
  return false;
}

// 10.00.00, as it is written behind a dash.
bool dotted_clock(Cursor& c, Civil& t) {
  Cursor start = c;
  if (c.digits(2, t.hour) && c.take('.') && c.digits(2, t.minute) && c.take('.') && c.digits(2, t.second))
    return true;
  c = start;
  return false;
}

// Four digits, or two for a year since 2000 if nothing but a sign or a blank follows.
bool long_or_short_year(Cursor& c, int& year) {
  if (c.digits(4, year)) return true;
  if (!c.more(3) || is_digit(c.at[2]) || !c.two_digits(year)) return false;
  year += 2000;
  return true;
}

const char* numeric_date_time(Cursor c, Civil t, ParsedTime& out) {
  if (!c.take_any(" T-,") || (c.take(' '), !clock(c, t) && !short_clock(c, t))) return nullptr;
  fraction(c, t);
  if (!half_day(c, t)) return nullptr;
  return finish(c, t, zone(c), out);
}

// What follows a date with the name of a month.
const char* behind_date(Cursor c, Civil t, ParsedTime& out) {
  if (!c.take_any(" :") || !clock(c, t)) return nullptr;
  fraction(c, t);
  if (!half_day(c, t)) return nullptr;
  return finish(c, t, zone(c), out);
}

bool two_digits_and(Cursor& c, char separator, int& value) {
  Cursor start = c;
  if ((c.digits(2, value) || c.digits(1, value)) && c.take(separator)) return true;
  c = start;
  return false;
}

}  // namespace

const char* scan_rfc3339(const char* at, const char* end, ParsedTime& out) {
  Cursor c{at, end};
  Civil t;
  if (!c.digits(4, t.year)) return nullptr;
  if (c.take('-')) {
    if (!c.digits(2, t.month) || !c.take('-') || !c.digits(2, t.day) || !c.take_any("T t_-:")) return nullptr;
    const char between = c.at[-1];
    if (between == ' ') c.take(' ');
    if (!clock(c, t) && !(between == '-' && dotted_clock(c, t))) {
      if (!c.digits(2, t.hour) || !c.take(':') || !c.digits(2, t.minute)) return nullptr;
    }
  } else if (!c.digits(2, t.month) || !c.digits(2, t.day) || !c.take_any("Tt") || !c.digits(2, t.hour) ||
             !c.digits(2, t.minute) || !c.digits(2, t.second)) {
    return nullptr;
  }
  fraction(c, t);
  return finish(c, t, zone(c), out);
}

const char* scan_clf_time(const char* at, const char* end, ParsedTime& out) {
  Cursor c{at, end};
  Civil t;
  if (!c.digits(2, t.day) || !c.take('/') || !month_name(c, t.month) || !c.take('/') ||
      !c.digits(4, t.year) || !c.take_any(": ") || !clock(c, t))
    return nullptr;
  fraction(c, t);
  return finish(c, t, zone(c), out);
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
  const FoundZone z = zone(c);
  return has_year ? finish(c, t, z, out) : finish_without_year(c, t, z, reference, out);
}

const char* scan_mail_time(const char* at, const char* end, ParsedTime& out) {
  Cursor c{at, end};
  Civil t;
  if (end - at > 3 && at[3] == '-') {  // Nov-23-2026
    if (!month_name(c, t.month) || !c.take('-') || !two_digits_and(c, '-', t.day) ||
        !long_or_short_year(c, t.year))
      return nullptr;
    return behind_date(c, t, out);
  }
  if (day_name(c) && !(c.take(',') && c.take(' '))) return nullptr;
  if (!(c.digits(2, t.day) || c.digits(1, t.day)) || !c.take_any(" -")) return nullptr;
  const char separator = c.at[-1];
  if (!month_name(c, t.month) || !c.take(separator) ||
      !(separator == '-' ? long_or_short_year(c, t.year) : c.digits(4, t.year)))
    return nullptr;
  return behind_date(c, t, out);
}

const char* scan_ctime(const char* at, const char* end, ParsedTime& out) {
  Cursor c{at, end};
  Civil t;
  if (!day_name(c) || !c.take(' ') || !month_name(c, t.month) || !c.take(' ') || !c.short_day(t.day) ||
      !c.take(' ') || !clock(c, t))
    return nullptr;
  fraction(c, t);
  const FoundZone before = zone(c);
  if (!c.take(' ') || !c.digits(4, t.year)) return nullptr;
  return finish(c, t, before.form != FoundZone::Form::none ? before : zone(c), out);
}

const char* scan_slash_time(const char* at, const char* end, ParsedTime& out) {
  Cursor c{at, end};
  Civil t;
  if (!c.digits(4, t.year) || !c.take_any("/.:")) return nullptr;
  const char separator = c.at[-1];
  if (!c.digits(2, t.month) || !c.take(separator) || !c.digits(2, t.day)) return nullptr;
  return numeric_date_time(c, t, out);
}

const char* scan_dot_time(const char* at, const char* end, ParsedTime& out) {
  Cursor c{at, end};
  Civil t;
  if (!two_digits_and(c, '.', t.day) || !two_digits_and(c, '.', t.month) || !c.digits(4, t.year))
    return nullptr;
  return numeric_date_time(c, t, out);
}

const char* scan_ordered_time(const char* at, const char* end, DayOrder order, ParsedTime& out) {
  Cursor c{at, end};
  int first = 0, second = 0;
  Civil t;
  const char* const near = at + std::min<std::ptrdiff_t>(3, end - at);
  const char separator = std::find(at, near, '-') != near ? '-' : '/';
  if (!two_digits_and(c, separator, first) || !two_digits_and(c, separator, second) || !c.digits(4, t.year))
    return nullptr;
  if (order == DayOrder::either) {
    if (first <= 12 && second <= 12 && first != second) {
      problem() = "day and month can be read either way round; say which with order=dmy or order=mdy";
      return nullptr;
    }
    order = first > 12 ? DayOrder::day_first : DayOrder::month_first;
  }
  t.day = order == DayOrder::day_first ? first : second;
  t.month = order == DayOrder::day_first ? second : first;
  return numeric_date_time(c, t, out);
}

const char* scan_compact_time(const char* at, const char* end, ParsedTime& out) {
  Cursor c{at, end};
  Civil t;
  if (!three_pairs(c, t.year, t.month, t.day) || !c.take(' ')) return nullptr;
  t.year += 2000;
  if (!three_pairs(c, t.hour, t.minute, t.second) && !clock(c, t) && (c.take(' '), !short_clock(c, t)))
    return nullptr;
  fraction(c, t);
  return finish(c, t, zone(c), out);
}

const char* scan_yearless_time(const char* at, const char* end, std::int64_t reference, ParsedTime& out) {
  Cursor c{at, end};
  Civil t;
  if (!c.two_digits(t.month) || !c.take('-') || !c.two_digits(t.day) || !c.take(' ') || !clock(c, t))
    return nullptr;
  fraction(c, t);
  return finish_without_year(c, t, zone(c), reference, out);
}

const char* scan_clock_time(const char* at, const char* end, std::int64_t reference, ParsedTime& out) {
  Cursor c{at, end};
  Civil t = civil_from_instant(reference);
  t.nanosecond = 0;
  if (!clock(c, t)) return nullptr;
  fraction(c, t);
  const char* place = finish(c, t, zone(c), out);
  if (place) near_day(out, reference);
  return place;
}

const char* scan_tai64n(const char* at, const char* end, ParsedTime& out) {
  constexpr int kDigits = 24;  // 16 of seconds, 8 of nanoseconds
  if (end - at < 1 + kDigits || *at != '@') return nullptr;
  std::uint64_t parts[2] = {0, 0};
  for (int i = 0; i < kDigits; ++i) {
    const char c = at[1 + i];
    if (!is_hex(c)) return nullptr;
    parts[i / 16] =
        parts[i / 16] << 4 | static_cast<std::uint64_t>(is_digit(c) ? c - '0' : (c | 0x20) - 'a' + 10);
  }
  constexpr std::uint64_t kBase = (std::uint64_t{1} << 62) + 10, kMostSeconds = INT64_MAX / kSecond - 1;
  if (parts[0] < kBase || parts[0] - kBase > kMostSeconds || parts[1] >= 1'000'000'000) return nullptr;
  out = {static_cast<std::int64_t>((parts[0] - kBase) * kSecond + parts[1]), false};
  return at + 1 + kDigits;
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

namespace {

// What stands at certain places tells which form it is.
const char* common_form(const char* at, const char* end, std::int64_t reference, DayOrder order,
                        ParsedTime& out) {
  const std::ptrdiff_t size = end - at;
  if (size < 8) return nullptr;
  if (is_letter(at[0])) {
    if (at[3] == ',' || at[3] == '-') return scan_mail_time(at, end, out);
    if (is_letter(at[3])) return scan_mail_time(at, end, out);
    if (at[3] != ' ') return nullptr;
    return is_letter(at[4]) ? scan_ctime(at, end, out) : scan_syslog_time(at, end, reference, out);
  }
  if (at[0] == '@') return scan_tai64n(at, end, out);
  if (at[4] == '-' || (size > 15 && (at[8] == 'T' || at[8] == 't'))) return scan_rfc3339(at, end, out);
  if (at[1] != '/' && at[2] != '/' && (at[4] == '/' || ((at[4] == '.' || at[4] == ':') && at[7] == at[4])))
    return scan_slash_time(at, end, out);
  if (at[2] == '/' && is_letter(at[3])) return scan_clf_time(at, end, out);
  if (at[2] == ':') return scan_clock_time(at, end, reference, out);
  if (at[2] == '-' && at[5] == ' ') return scan_yearless_time(at, end, reference, out);
  if (at[2] == '/' || at[1] == '/') return scan_ordered_time(at, end, order, out);
  if (at[2] == '-' || at[1] == '-')
    return is_letter(at[at[1] == '-' ? 2 : 3]) ? scan_mail_time(at, end, out)
                                               : scan_ordered_time(at, end, order, out);
  if (at[1] == ' ' || at[2] == ' ') return scan_mail_time(at, end, out);
  if (at[6] == ' ' && is_digit(at[1])) return scan_compact_time(at, end, out);
  if (at[2] == '.' || at[1] == '.')
    if (const char* place = scan_dot_time(at, end, out)) return place;
  return scan_epoch_time(at, end, out);
}

// CET 2026-11-23 10:00:00: the zone stands in front.
const char* behind_zone(const char* at, const char* end, std::int64_t reference, DayOrder order,
                        ParsedTime& out) {
  Cursor c{at, end};
  const FoundZone found = zone_word(c);
  if (found.form == FoundZone::Form::none || !c.take(' ')) return nullptr;
  const char* place = common_form(c.at, end, reference, order, out);
  if (place == nullptr || !out.zoneless) return nullptr;
  out.nanoseconds = found.form == FoundZone::Form::named ? found.named->to_utc(out.nanoseconds)
                                                         : out.nanoseconds - found.offset * kSecond;
  out.zoneless = false;
  return place;
}

}  // namespace

const char* scan_any_time(const char* at, const char* end, std::int64_t reference, DayOrder order,
                          ParsedTime& out) {
  const char* place = common_form(at, end, reference, order, out);
  return place == nullptr && at != end && is_letter(*at) ? behind_zone(at, end, reference, order, out)
                                                         : place;
}

std::string take_time_problem() {
  std::string text;
  text.swap(problem());
  return text;
}

}  // namespace dingle
