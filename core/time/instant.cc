#include "core/time/instant.h"

#include <fmt/format.h>

#include <charconv>
#include <chrono>

#include "core/time/clock.h"
#include "core/time/formats.h"

namespace dingle {
namespace {

int days_in_month(int year, int month) {
  constexpr int days[] = {31, 28, 31, 30, 31, 30, 31, 31, 30, 31, 30, 31};
  bool leap = (year % 4 == 0 && year % 100 != 0) || year % 400 == 0;
  return month == 2 && leap ? 29 : days[month - 1];
}

struct Unit {
  const char* name;
  std::int64_t nanoseconds;
};
constexpr Unit kUnits[] = {{"ns", 1},           {"us", 1000},          {"ms", 1'000'000}, {"s", kSecond},
                           {"m", 60 * kSecond}, {"h", 3600 * kSecond}, {"d", kDay},       {"w", 7 * kDay}};

}  // namespace

std::optional<std::int64_t> instant_from_civil(const Civil& c) {
  if (c.year < 1678 || c.year > 2261 || c.month < 1 || c.month > 12 || c.day < 1 || c.hour < 0 ||
      c.hour > 23 || c.minute < 0 || c.minute > 59 || c.second < 0 || c.second > 60 ||
      c.day > days_in_month(c.year, c.month))
    return std::nullopt;
  return days_from_civil(c.year, c.month, c.day) * kDay +
         (c.hour * 3600LL + c.minute * 60 + c.second) * kSecond + c.nanosecond;
}

Civil civil_from_instant(std::int64_t ns) {
  std::int64_t day = ns / kDay, rest = ns % kDay;
  if (rest < 0) rest += kDay, --day;
  std::chrono::year_month_day ymd{std::chrono::sys_days{std::chrono::days{day}}};
  std::int64_t seconds = rest / kSecond;
  return {int(ymd.year()),        int(unsigned(ymd.month())), int(unsigned(ymd.day())), int(seconds / 3600),
          int(seconds / 60 % 60), int(seconds % 60),          int(rest % kSecond)};
}

// Every event that is shown or sent has two: digits are written by hand.
std::string format_rfc3339(std::int64_t ns) {
  const Civil c = civil_from_instant(ns);
  char text[] = "0000-00-00T00:00:00.000000000Z";
  const auto put = [&](std::size_t end, std::int64_t number, int digits) {
    for (; digits != 0; --digits, number /= 10) text[--end] = static_cast<char>('0' + number % 10);
  };
  put(4, c.year, 4);  // 1677 to 2262
  put(7, c.month, 2);
  put(10, c.day, 2);
  put(13, c.hour, 2);
  put(16, c.minute, 2);
  put(19, c.second, 2);
  put(29, c.nanosecond, 9);
  const std::size_t digits = c.nanosecond % 1000 != 0        ? 9
                             : c.nanosecond % 1'000'000 != 0 ? 6
                             : c.nanosecond != 0             ? 3
                                                             : 0;
  const std::size_t end = digits == 0 ? 19 : 20 + digits;
  text[end] = 'Z';
  return {text, end + 1};
}

std::string format_short(std::int64_t ns) {
  Civil c = civil_from_instant(ns);
  return fmt::format("{:04}-{:02}-{:02} {:02}:{:02}:{:02}.{:03}", c.year, c.month, c.day, c.hour, c.minute,
                     c.second, c.nanosecond / 1'000'000);
}

std::optional<std::int64_t> parse_duration(std::string_view text) {
  std::int64_t number = 0;
  auto [end, error] = std::from_chars(text.data(), text.data() + text.size(), number);
  if (error != std::errc() || number < 0) return std::nullopt;
  std::string_view unit(end, static_cast<std::size_t>(text.data() + text.size() - end));
  for (const Unit& u : kUnits)
    if (unit == u.name) {
      std::int64_t product;
      if (__builtin_mul_overflow(number, u.nanoseconds, &product)) return std::nullopt;
      return product;
    }
  return std::nullopt;
}

std::string format_duration(std::int64_t ns) {
  if (ns == 0) return "0s";
  const Unit* best = &kUnits[0];
  for (const Unit& u : kUnits)
    if (ns % u.nanoseconds == 0 && u.name[0] != 'w') best = &u;
  return std::to_string(ns / best->nanoseconds) + best->name;
}

std::optional<std::int64_t> parse_moment(std::string_view text, std::int64_t now) {
  if (text == "now") return now;
  if (auto ago = parse_duration(text)) return now - *ago;
  const char* end = text.data() + text.size();
  ParsedTime parsed;
  if (scan_rfc3339(text.data(), end, parsed) == end) return parsed.nanoseconds;
  for (std::string_view rest : {"T00:00:00", ":00"}) {  // a date alone; a time without seconds
    std::string longer = std::string(text) + std::string(rest);
    const char* last = longer.data() + longer.size();
    if (scan_rfc3339(longer.data(), last, parsed) == last) return parsed.nanoseconds;
  }
  return std::nullopt;
}

namespace {

template <class Of>
std::int64_t nanoseconds_of() {
  return std::chrono::duration_cast<std::chrono::nanoseconds>(Of::now().time_since_epoch()).count();
}

class SystemClock final : public Clock {
 public:
  std::int64_t wall() const override { return nanoseconds_of<std::chrono::system_clock>(); }
  std::int64_t steady() const override { return nanoseconds_of<std::chrono::steady_clock>(); }
};

}  // namespace

const Clock& system_clock() {
  static const SystemClock* const clock = new SystemClock;  // threads may ask at exit
  return *clock;
}

std::int64_t system_now() { return nanoseconds_of<std::chrono::system_clock>(); }

}  // namespace dingle
