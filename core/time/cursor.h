// What the scanners of times share: a place in a text, and the parts of a time that may stand there. Internal
// to core/time.
#pragma once

#include <cstring>
#include <string>
#include <string_view>

#include "core/time/formats.h"
#include "core/time/instant.h"

namespace dingle::time_scan {

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
  bool two_digits(int& value) {
    if (!more(2)) return false;
    const unsigned a = static_cast<unsigned char>(at[0]) - unsigned{'0'},
                   b = static_cast<unsigned char>(at[1]) - unsigned{'0'};
    if ((a > 9) | (b > 9)) return false;
    value = static_cast<int>(a * 10 + b);
    at += 2;
    return true;
  }
  // Exactly n digits.
  bool digits(int n, int& value) {
    if (n == 2) return two_digits(value);
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

// A zone as it was found in a text.
struct FoundZone {
  enum class Form { none, offset, named } form = Form::none;
  int offset = 0;  // seconds east of UTC
  const Zone* named = nullptr;
};

bool month_name(Cursor& c, int& month);       // Jan
bool long_month_name(Cursor& c, int& month);  // January, or Jan
bool day_name(Cursor& c);                     // Mon, Monday
void fraction(Cursor& c, Civil& t);           // of a second after a dot or comma, if one follows
// AM or PM, if it follows after at most one blank. False when the hour does not suit it.
bool half_day(Cursor& c, Civil& t);
FoundZone zone(Cursor& c);  // if one follows, after at most one blank
FoundZone zone_word(Cursor& c);

inline bool clock(Cursor& c, Civil& t) {
  if (!c.more(8) || c.at[2] != ':' || c.at[5] != ':') return false;
  Cursor start = c;
  if (c.digits(2, t.hour) && c.take(':') && c.digits(2, t.minute) && c.take(':') && c.digits(2, t.second))
    return true;
  c = start;
  return false;
}

const char* finish(const Cursor& c, const Civil& t, const FoundZone& z, ParsedTime& out);
const char* finish_without_year(const Cursor& c, Civil t, const FoundZone& z, std::int64_t reference,
                                ParsedTime& out);
// The time of day that was read belongs to the day of `reference`, or one beside it: that with which it lies within 16 h
// before and 8 h after it. The local time of a zone may be ahead of what is read as UTC.
void near_day(ParsedTime& t, std::int64_t reference);
std::string& problem();  // of this thread, for take_time_problem

}  // namespace dingle::time_scan
