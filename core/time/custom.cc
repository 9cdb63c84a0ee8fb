// Forms of a time that the user writes down: TimeFormat.
#include "core/time/cursor.h"

namespace dingle {

using namespace time_scan;

Result<TimeFormat> TimeFormat::compile(std::string_view text) {
  TimeFormat format;
  for (std::size_t i = 0; i < text.size(); ++i) {
    if (text[i] != '%') {
      format.text_ += text[i];
      continue;
    }
    if (++i == text.size())
      return Problem{"the form ends with a single %", "write %% for a percent sign", i - 1, 1};
    switch (text[i]) {
      case 'F': format.text_ += "%Y-%m-%d"; break;
      case 'T': format.text_ += "%H:%M:%S"; break;
      case 'D': format.text_ += "%m/%d/%y"; break;
      case 'R': format.text_ += "%H:%M"; break;
      case 'n':
      case 't': format.text_ += ' '; break;
      case 'h':
      case 'B': format.text_ += "%b"; break;
      case 'A': format.text_ += "%a"; break;
      case 'Y':
      case 'y':
      case 'm':
      case 'd':
      case 'e':
      case 'j':
      case 'H':
      case 'I':
      case 'M':
      case 'S':
      case 'p':
      case 'b':
      case 'a':
      case 'z':
      case 'Z':
      case 's':
      case 'f':
      case '%': (format.text_ += '%') += text[i]; break;
      default:
        return Problem{std::string("unknown conversion %") + text[i],
                       "known are %Y %y %m %d %e %j %H %I %M %S %f %p %b %a %z %Z %s %F %T %D %R", i - 1, 2};
    }
  }
  auto has = [&](const char* conversion) { return format.text_.find(conversion) != std::string::npos; };
  const bool epoch = has("%s");
  format.has_year_ = epoch || has("%Y") || has("%y");
  format.has_month_ = epoch || has("%m") || has("%b") || has("%j");
  format.has_day_ = epoch || has("%d") || has("%e") || has("%j");
  if (!epoch && !has("%H") && !has("%I") && !(format.has_year_ && format.has_month_ && format.has_day_))
    return Problem{"the form has neither a time of day nor a whole date", "for instance %Y-%m-%d %H:%M:%S", 0,
                   text.size()};
  if (has("%I") && !has("%p"))
    return Problem{"%I is an hour of 12, and needs %p to tell the half of the day",
                   "use %H for an hour of 24", text.find("%I"), 2};
  return format;
}

const char* TimeFormat::scan(const char* at, const char* end, std::int64_t reference, ParsedTime& out) const {
  Cursor c{at, end};
  Civil t;
  FoundZone z;
  bool afternoon = false, half = false;
  int day_of_year = 0;
  bool epoch = false;
  ParsedTime instant;
  auto one_or_two = [&](int& value) { return c.digits(2, value) || c.digits(1, value); };
  for (std::size_t i = 0; i < text_.size(); ++i) {
    const char f = text_[i];
    if (f == ' ') {
      if (!c.take_any(" \t")) return nullptr;
      while (c.take_any(" \t")) {
      }
      continue;
    }
    if (f != '%') {
      if (!c.take(f)) return nullptr;
      continue;
    }
    bool ok = true;
    switch (text_[++i]) {
      case 'Y': ok = c.digits(4, t.year); break;
      case 'y':
        ok = c.digits(2, t.year);
        t.year += t.year < 69 ? 2000 : 1900;  // as POSIX says
        break;
      case 'm': ok = one_or_two(t.month); break;
      case 'd':
      case 'e': ok = c.short_day(t.day); break;
      case 'j': ok = c.digits(3, day_of_year); break;
      case 'H':
      case 'I': ok = one_or_two(t.hour); break;
      case 'M': ok = one_or_two(t.minute); break;
      case 'S': ok = one_or_two(t.second); break;
      case 'f': {
        int scale = 100'000'000;
        const char* from = c.at;
        for (; c.at != c.end && *c.at >= '0' && *c.at <= '9'; ++c.at, scale /= 10)
          t.nanosecond += (*c.at - '0') * scale;
        ok = c.at != from;
        break;
      }
      case 'p':
        ok = c.more(2) && (c.at[1] | 0x20) == 'm' && ((c.at[0] | 0x20) == 'a' || (c.at[0] | 0x20) == 'p');
        if (ok) half = true, afternoon = (c.at[0] | 0x20) == 'p', c.at += 2;
        break;
      case 'b': ok = long_month_name(c, t.month); break;
      case 'a': ok = day_name(c); break;
      case 'z': {
        const char* before = c.at;
        z = zone(c);
        ok = c.at != before && *before != ' ';
        break;
      }
      case 'Z':
        z = zone_word(c);
        ok = z.form != FoundZone::Form::none;
        break;
      case 's': {
        const char* p = scan_epoch_time(c.at, c.end, instant);
        ok = p != nullptr;
        if (ok) c.at = p, epoch = true;
        break;
      }
      case '%': ok = c.take('%'); break;
    }
    if (!ok) return nullptr;
  }
  if (epoch) {
    out = instant;
    return c.at;
  }
  if (half) {
    if (t.hour < 1 || t.hour > 12) {
      problem() = "an hour of 12 lies within 1 to 12";
      return nullptr;
    }
    t.hour = t.hour % 12 + (afternoon ? 12 : 0);
  }
  const Civil now = civil_from_instant(reference);
  if (!has_month_) t.month = has_year_ ? 1 : now.month;
  if (!has_day_) t.day = has_year_ || has_month_ ? 1 : now.day;
  if (has_year_ || !has_month_) {
    if (!has_year_) t.year = now.year;
    if (day_of_year != 0) {
      const bool leap = (t.year % 4 == 0 && t.year % 100 != 0) || t.year % 400 == 0;
      if (day_of_year > 365 + leap) {
        problem() = "the year has no such day";
        return nullptr;
      }
      t.month = 1, t.day = 1;
      const char* place = finish(c, t, z, out);
      if (place) out.nanoseconds += (day_of_year - 1) * kDay;
      return place;
    }
    const char* place = finish(c, t, z, out);
    if (place && !has_year_ && !has_day_) near_day(out, reference);
    return place;
  }
  return finish_without_year(c, t, z, reference, out);
}

}  // namespace dingle
