#include "core/time/cursor.h"

#include <fmt/format.h>

#include "core/ascii.h"

namespace dingle::time_scan {
namespace {

constexpr const char* kMonths[] = {"January", "February", "March",     "April",   "May",      "June",
                                   "July",    "August",   "September", "October", "November", "December"};

// Abbreviations that mean one offset wherever they are used, and those that RFC 5322 section 4.3 defines;
// minutes.
struct Abbreviation {
  std::string_view name;
  int minutes;
};
constexpr Abbreviation kAbbreviations[] = {
    {"UTC", 0},    {"GMT", 0},    {"UT", 0},     {"WET", 0},    {"WEST", 60},   {"CET", 60},    {"CEST", 120},
    {"MET", 60},   {"MEST", 120}, {"EET", 120},  {"EEST", 180}, {"MSK", 180},   {"BST", 60},    {"JST", 540},
    {"KST", 540},  {"HKT", 480},  {"SGT", 480},  {"AEST", 600}, {"AEDT", 660},  {"ACST", 570},  {"ACDT", 630},
    {"AWST", 480}, {"NZST", 720}, {"NZDT", 780}, {"EST", -300}, {"EDT", -240},  {"CST", -360},  {"CDT", -300},
    {"MST", -420}, {"MDT", -360}, {"PST", -480}, {"PDT", -420}, {"AKST", -540}, {"AKDT", -480}, {"HST", -600},
    {"SAST", 120}, {"NPT", 345}};

// What is wrong with a date or time whose form was right.
std::string range_problem(const Civil& t) {
  if (t.month < 1 || t.month > 12) return fmt::format("there is no month {}", t.month);
  if (t.hour > 23) return fmt::format("there is no hour {}", t.hour);
  if (t.minute > 59) return fmt::format("there is no minute {}", t.minute);
  if (t.second > 60) return fmt::format("there is no second {}", t.second);
  if (t.year < 1678 || t.year > 2261) return fmt::format("the year {} is not within 1678 to 2261", t.year);
  return fmt::format("{} {} has no day {}", kMonths[t.month - 1], t.year, t.day);
}

}  // namespace

std::string& problem() {
  thread_local std::string text;
  return text;
}

bool month_name(Cursor& c, int& month) {
  if (!c.more(3)) return false;
  const auto key = [](char x, char y, char z) constexpr {
    return static_cast<std::uint32_t>(static_cast<unsigned char>(x)) << 16 |
           static_cast<std::uint32_t>(static_cast<unsigned char>(y)) << 8 | static_cast<unsigned char>(z);
  };
  int m = 0;
  switch (key(c.at[0], c.at[1], c.at[2]) | 0x202020) {
    case key('j', 'a', 'n'): m = 1; break;
    case key('f', 'e', 'b'): m = 2; break;
    case key('m', 'a', 'r'): m = 3; break;
    case key('a', 'p', 'r'): m = 4; break;
    case key('m', 'a', 'y'): m = 5; break;
    case key('j', 'u', 'n'): m = 6; break;
    case key('j', 'u', 'l'): m = 7; break;
    case key('a', 'u', 'g'): m = 8; break;
    case key('s', 'e', 'p'): m = 9; break;
    case key('o', 'c', 't'): m = 10; break;
    case key('n', 'o', 'v'): m = 11; break;
    case key('d', 'e', 'c'): m = 12; break;
    default: return false;
  }
  // A capital and small letters, or all of one case.
  const bool capital = c.at[0] < 'a', second = c.at[1] < 'a', third = c.at[2] < 'a';
  if (second != third || (second && !capital)) return false;
  c.at += 3;
  month = m;
  return true;
}

bool long_month_name(Cursor& c, int& month) {
  for (int m = 0; m < 12; ++m)
    if (c.take(std::string_view(kMonths[m]))) return month = m + 1, true;
  return month_name(c, month);
}

bool day_name(Cursor& c) {
  static constexpr std::string_view kDays[] = {"Monday", "Tuesday",  "Wednesday", "Thursday",
                                               "Friday", "Saturday", "Sunday"};
  for (std::string_view name : kDays)
    if (c.more(3) && std::memcmp(c.at, name.data(), 3) == 0) {
      if (!c.take(name)) c.at += 3;
      return true;
    }
  return false;
}

void fraction(Cursor& c, Civil& t) {
  if (!c.more(2) || (c.at[0] != '.' && c.at[0] != ',') || c.at[1] < '0' || c.at[1] > '9') return;
  ++c.at;
  int scale = 100'000'000;
  for (; c.at != c.end && *c.at >= '0' && *c.at <= '9'; ++c.at) {
    t.nanosecond += (*c.at - '0') * scale;
    scale /= 10;
  }
}

bool half_day(Cursor& c, Civil& t) {
  const char* p = c.at;
  if (p != c.end && *p == ' ') ++p;
  if (c.end - p < 2 || (p[1] | 0x20) != 'm' || ((p[0] | 0x20) != 'a' && (p[0] | 0x20) != 'p')) return true;
  if (c.end - p > 2 && is_letter(p[2])) return true;  // a longer word
  if (t.hour < 1 || t.hour > 12) {
    problem() = fmt::format("there is no hour {} {}M", t.hour, (p[0] | 0x20) == 'a' ? 'A' : 'P');
    return false;
  }
  t.hour = t.hour % 12 + ((p[0] | 0x20) == 'p' ? 12 : 0);
  c.at = p + 2;
  return true;
}

FoundZone zone_word(Cursor& c) {
  const char* p = c.at;
  bool slash = false;
  auto part = [](char b) {
    return is_letter(b) || b == '_' || b == '/' || b == '+' || b == '-' || (b >= '0' && b <= '9');
  };
  const char* upper = p;
  while (upper != c.end && upper - p < 5 && *upper >= 'A' && *upper <= 'Z') ++upper;
  const char* q = p;
  while (q != c.end && q - p < 40 && part(*q)) slash |= *q++ == '/';
  if (slash) {
    // A name of the tz database: an area, a slash, a place.
    while (q != p && (q[-1] == '-' || q[-1] == '/' || q[-1] == '+')) --q;
    if (const Zone* zone = Zone::known({p, static_cast<std::size_t>(q - p)})) {
      c.at = q;
      return {FoundZone::Form::named, 0, zone};
    }
    return {};
  }
  if (upper != c.end && is_letter(*upper)) return {};  // a longer word
  const std::string_view word(p, static_cast<std::size_t>(upper - p));
  for (const Abbreviation& a : kAbbreviations)
    if (a.name == word) {
      c.at = upper;
      return {FoundZone::Form::offset, a.minutes * 60, nullptr};
    }
  return {};
}

FoundZone zone(Cursor& c) {
  const char* p = c.at;
  if (p != c.end && *p == ' ') ++p;
  if (p == c.end) return {};
  if (*p == 'Z' || *p == 'z') {
    if (p + 1 != c.end && is_letter(p[1])) return {};
    if (p != c.at && *p == 'z') return {};
    c.at = p + 1;
    return {FoundZone::Form::offset, 0, nullptr};
  }
  Cursor inner{p, c.end};
  if (*p == '+' || *p == '-') {
    const int sign = *inner.at++ == '-' ? -1 : 1;
    int hours = 0, minutes = 0;
    if (!inner.digits(2, hours)) return {};
    Cursor after_hours = inner;
    inner.take(':');
    if (!inner.digits(2, minutes)) inner = after_hours, minutes = 0;
    if (hours > 23 || minutes > 59) return {};
    FoundZone found{FoundZone::Form::offset, sign * (hours * 3600 + minutes * 60), nullptr};
    // The name of the zone may stand behind its offset in brackets.
    if (inner.at != inner.end && *inner.at == '[') {
      Cursor bracket{inner.at + 1, inner.end};
      if (zone_word(bracket).form != FoundZone::Form::none && bracket.take(']')) inner = bracket;
    }
    c.at = inner.at;
    return found;
  }
  if (*p < 'A' || *p > 'Z') return {};
  FoundZone found = zone_word(inner);
  if (found.form != FoundZone::Form::none) c.at = inner.at;
  return found;
}

const char* finish(const Cursor& c, const Civil& t, const FoundZone& z, ParsedTime& out) {
  auto instant = instant_from_civil(t);
  if (!instant) {
    problem() = range_problem(t);
    return nullptr;
  }
  out.zoneless = z.form == FoundZone::Form::none;
  out.nanoseconds =
      z.form == FoundZone::Form::named ? z.named->to_utc(*instant) : *instant - z.offset * kSecond;
  return c.at;
}

const char* finish_without_year(const Cursor& c, Civil t, const FoundZone& z, std::int64_t reference,
                                ParsedTime& out) {
  const int year = civil_from_instant(reference + kDay).year;
  for (int back = 0; back < 9; ++back) {  // nine: a 29 February needs a leap year
    t.year = year - back;
    if (const char* place = finish(c, t, z, out)) {
      if (out.nanoseconds <= reference + kDay) return place;
    } else if (t.month != 2 || t.day != 29) {
      return nullptr;
    }
  }
  return nullptr;
}

void near_day(ParsedTime& t, std::int64_t reference) {
  if (t.nanoseconds > reference + kDay / 3) t.nanoseconds -= kDay;
  if (t.nanoseconds <= reference - kDay * 2 / 3) t.nanoseconds += kDay;
}

}  // namespace dingle::time_scan
