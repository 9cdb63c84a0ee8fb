#include "core/time/formats.h"

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

const char* numeric_date_time(Cursor c, Civil t, ParsedTime& out) {
  if (!c.take_any(" T-,") || (c.take(' '), !clock(c, t) && !short_clock(c, t))) return nullptr;
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
    if (!c.digits(2, t.month) || !c.take('-') || !c.digits(2, t.day) || !c.take_any("T t_")) return nullptr;
    if (c.at[-1] == ' ') c.take(' ');
    if (!clock(c, t)) {
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
  if (day_name(c) && !(c.take(',') && c.take(' '))) return nullptr;
  if (!(c.digits(2, t.day) || c.digits(1, t.day)) || !c.take_any(" -")) return nullptr;
  const char separator = c.at[-1];
  if (!month_name(c, t.month) || !c.take(separator) || !c.digits(4, t.year) || !c.take_any(" :") ||
      !clock(c, t))
    return nullptr;
  fraction(c, t);
  if (!half_day(c, t)) return nullptr;
  return finish(c, t, zone(c), out);
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
  if (!c.digits(4, t.year) || !c.take('/') || !c.digits(2, t.month) || !c.take('/') || !c.digits(2, t.day))
    return nullptr;
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
  if (!two_digits_and(c, '/', first) || !two_digits_and(c, '/', second) || !c.digits(4, t.year))
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

const char* scan_any_time(const char* at, const char* end, std::int64_t reference, DayOrder order,
                          ParsedTime& out) {
  const std::ptrdiff_t size = end - at;
  if (size < 8) return nullptr;
  if (is_letter(at[0])) {
    if (at[3] == ',' || is_letter(at[3])) return scan_mail_time(at, end, out);
    if (at[3] != ' ') return nullptr;
    return is_letter(at[4]) ? scan_ctime(at, end, out) : scan_syslog_time(at, end, reference, out);
  }
  if (at[4] == '-' || (size > 15 && (at[8] == 'T' || at[8] == 't'))) return scan_rfc3339(at, end, out);
  if (at[4] == '/' && at[1] != '/' && at[2] != '/') return scan_slash_time(at, end, out);
  if (at[2] == '/' && is_letter(at[3])) return scan_clf_time(at, end, out);
  if (at[2] == '/' || at[1] == '/') return scan_ordered_time(at, end, order, out);
  if (at[1] == ' ' || at[2] == ' ' || ((at[2] == '-' || at[1] == '-') && is_letter(at[3])))
    return scan_mail_time(at, end, out);
  if (at[2] == '.' || at[1] == '.')
    if (const char* place = scan_dot_time(at, end, out)) return place;
  return scan_epoch_time(at, end, out);
}

std::string take_time_problem() {
  std::string text;
  text.swap(problem());
  return text;
}

}  // namespace dingle
