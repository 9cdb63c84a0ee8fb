// Numbers: whole, decimal, hexadecimal, grouped, percent, durations, sizes.
#include <charconv>
#include <cmath>
#include <cstring>

#include "core/template/lexemes/parts.h"

namespace dingle {

const char* scan_integer(const char* at, const char* end, const MatchContext&, const void*, Value& out) {
  const char* p = at;
  bool negative = false;
  if (p != end && (*p == '-' || *p == '+')) negative = *p++ == '-';
  const char* digits = p;
  std::uint64_t v = 0;
  while (p != end && is_digit(*p)) v = v * 10 + static_cast<std::uint64_t>(*p++ - '0');
  if (p == digits) return nullptr;
  if (p - digits > 18) {  // may not fit: let the careful one decide
    std::int64_t exact = 0;
    const char* from = negative ? at : digits;
    auto [stop, error] = std::from_chars(from, p, exact);
    if (error != std::errc() || stop != p) return nullptr;
    out = Value::integer(exact);
    return p;
  }
  out = Value::integer(negative ? -static_cast<std::int64_t>(v) : static_cast<std::int64_t>(v));
  return p;
}

constexpr double kPowersOfTen[] = {1e0, 1e1, 1e2,  1e3,  1e4,  1e5,  1e6,  1e7,
                                   1e8, 1e9, 1e10, 1e11, 1e12, 1e13, 1e14, 1e15};

const char* scan_decimal(const char* at, const char* end, const MatchContext&, const void*, Value& out) {
  const char* p = at;
  if (p != end && (*p == '-' || *p == '+')) ++p;
  const char* digits = p;
  std::uint64_t mantissa = 0;  // of all digits; means something while they are few
  while (p != end && is_digit(*p)) mantissa = mantissa * 10 + static_cast<std::uint64_t>(*p++ - '0');
  std::ptrdiff_t count = p - digits, decimals = 0;
  if (p != end && *p == '.') {
    const char* after = p + 1;
    while (after != end && is_digit(*after))
      mantissa = mantissa * 10 + static_cast<std::uint64_t>(*after++ - '0');
    decimals = after - (p + 1);
    count += decimals;
    if (decimals != 0) p = after;
  }
  if (count == 0) return nullptr;
  bool exponent = false;
  if (p != end && (*p == 'e' || *p == 'E')) {
    const char* q = p + 1;
    if (q != end && (*q == '-' || *q == '+')) ++q;
    const char* power = q;
    while (q != end && is_digit(*q)) ++q;
    if (q != power) p = q, exponent = true;
  }
  // Up to 15 digits both numbers are exact in a double, so their quotient is the nearest one.
  if (!exponent && count <= 15) {
    const double v = static_cast<double>(mantissa) / kPowersOfTen[decimals];
    out = Value::decimal(*at == '-' ? -v : v);
    return p;
  }
  double v = 0;
  if (auto [stop, error] = std::from_chars(*at == '+' ? at + 1 : at, p, v); error != std::errc() || stop != p)
    return nullptr;
  out = Value::decimal(v);
  return p;
}

namespace {

const char* scan_hex(const char* at, const char* end, const MatchContext&, const void*, Value& out) {
  const char* p = at;
  if (end - p > 2 && p[0] == '0' && (p[1] | 0x20) == 'x' && is_hex(p[2])) p += 2;
  const char* digits = p;
  while (p != end && is_hex(*p)) ++p;
  std::uint64_t v = 0;
  if (p == digits || std::from_chars(digits, p, v, 16).ec != std::errc() ||
      v > static_cast<std::uint64_t>(INT64_MAX))
    return nullptr;
  out = Value::integer(static_cast<std::int64_t>(v));
  return p;
}

struct Grouping {
  char separator = ',';
};

// Groups of three digits: 1,234,567. Without separators any number of digits.
const char* scan_grouped(const char* at, const char* end, const MatchContext& context, const void* settings,
                         Value& out) {
  const char separator = settings ? static_cast<const Grouping*>(settings)->separator : ',';
  const char* p = at;
  if (p != end && (*p == '-' || *p == '+')) ++p;
  char digits[24];
  std::size_t n = 0;
  if (*at == '-') digits[n++] = '-';
  const char* first = p;
  while (p != end && is_digit(*p) && n < 20) digits[n++] = *p++;
  if (p == first) return nullptr;
  if (p - first <= 3)
    while (end - p >= 4 && *p == separator && is_digit(p[1]) && is_digit(p[2]) && is_digit(p[3]) &&
           (end - p == 4 || !is_digit(p[4])) && n + 3 <= 20) {
      std::memcpy(digits + n, p + 1, 3);
      n += 3;
      p += 4;
    }
  return scan_integer(digits, digits + n, context, nullptr, out) == digits + n ? p : nullptr;
}

void prepare_grouped(ParameterReader& parameters, PreparedLexeme& lexeme) {
  auto settings = std::make_shared<Grouping>();
  settings->separator = parameters.byte("separator", ',');
  lexeme.settings = settings;
}

// 12.5% or 12.5 %: the number before the sign.
const char* scan_percent(const char* at, const char* end, const MatchContext& context, const void*,
                         Value& out) {
  const char* p = scan_decimal(at, end, context, nullptr, out);
  if (p != nullptr && p != end && *p == ' ') ++p;
  return p != nullptr && p != end && *p == '%' ? p + 1 : nullptr;
}

struct Unit {
  std::string_view name;
  double factor;
};
constexpr Unit kTimeUnits[] = {{"ns", 1},         {"us", 1e3},        {"\xC2\xB5s", 1e3}, {"\xCE\xBCs", 1e3},
                               {"usec", 1e3},     {"usecs", 1e3},     {"ms", 1e6},        {"msec", 1e6},
                               {"msecs", 1e6},    {"millis", 1e6},    {"s", 1e9},         {"sec", 1e9},
                               {"secs", 1e9},     {"second", 1e9},    {"seconds", 1e9},   {"m", 60e9},
                               {"min", 60e9},     {"mins", 60e9},     {"minute", 60e9},   {"minutes", 60e9},
                               {"h", 3600e9},     {"hr", 3600e9},     {"hrs", 3600e9},    {"hour", 3600e9},
                               {"hours", 3600e9}, {"d", 86400e9},     {"day", 86400e9},   {"days", 86400e9},
                               {"w", 604800e9},   {"week", 604800e9}, {"weeks", 604800e9}};
constexpr double kKi = 1024, kMi = kKi * 1024, kGi = kMi * 1024, kTi = kGi * 1024, kPi = kTi * 1024;
constexpr Unit kSizeUnits[] = {{"B", 1},     {"b", 1},     {"byte", 1},  {"bytes", 1}, {"Bytes", 1},
                               {"kB", 1e3},  {"KB", 1e3},  {"MB", 1e6},  {"GB", 1e9},  {"TB", 1e12},
                               {"PB", 1e15}, {"KiB", kKi}, {"MiB", kMi}, {"GiB", kGi}, {"TiB", kTi},
                               {"PiB", kPi}, {"k", kKi},   {"K", kKi},   {"M", kMi},   {"G", kGi},
                               {"T", kTi},   {"P", kPi}};

// The unit that starts at `p` and does not run on into a further letter; nullptr if there is none.
template <std::size_t N>
const Unit* unit_at(const char* p, const char* end, const Unit (&units)[N]) {
  const Unit* best = nullptr;
  for (const Unit& unit : units) {
    if (static_cast<std::size_t>(end - p) < unit.name.size() ||
        std::memcmp(p, unit.name.data(), unit.name.size()) != 0)
      continue;
    const char* behind = p + unit.name.size();
    if (behind != end && is_letter(*behind)) continue;
    if (best == nullptr || unit.name.size() > best->name.size()) best = &unit;
  }
  return best;
}

// A number without a sign, power or type, as part of a longer lexeme.
const char* plain_number(const char* at, const char* end, double& number) {
  const char* p = at;
  while (p != end && is_digit(*p)) ++p;
  if (p == at) return nullptr;
  if (end - p >= 2 && *p == '.' && is_digit(p[1]))
    for (++p; p != end && is_digit(*p);) ++p;
  auto [stop, error] = std::from_chars(at, p, number, std::chars_format::fixed);
  return error == std::errc() && stop == p ? p : nullptr;
}

bool to_whole(double number, Value& out) {
  if (!(std::abs(number) < 9.2e18)) return false;
  out = Value::integer(static_cast<std::int64_t>(std::llround(number)));
  return true;
}

// PT1H30M, P2DT3S: ISO 8601 durations without months and years.
const char* iso_duration(const char* at, const char* end, double& total) {
  const char* p = at + 1;
  bool any = false, clock = false;
  for (;;) {
    if (p != end && *p == 'T' && !clock) clock = true, ++p;
    double number = 0;
    const char* unit = plain_number(p, end, number);
    if (unit == nullptr || unit == end) break;
    const double factor = clock ? (*unit == 'H'   ? 3600e9
                                   : *unit == 'M' ? 60e9
                                   : *unit == 'S' ? 1e9
                                                  : 0)
                                : (*unit == 'D'   ? 86400e9
                                   : *unit == 'W' ? 604800e9
                                                  : 0);
    if (factor == 0) break;
    total += number * factor;
    any = true;
    p = unit + 1;
  }
  return any ? p : nullptr;
}

// h:mm:ss or m:ss, with decimals of the last.
const char* clock_duration(const char* at, const char* end, double& total) {
  const char* p = at;
  double parts[3] = {};
  int n = 0;
  for (;; ++p) {
    const char* q = p;
    while (q != end && is_digit(*q)) ++q;
    if (q == p || (n > 0 && q - p != 2)) return nullptr;
    const bool last = n == 2 || q == end || *q != ':' || end - q < 3 || !is_digit(q[1]) || !is_digit(q[2]);
    if (last)
      q = plain_number(p, end, parts[n]);
    else
      std::from_chars(p, q, parts[n]);
    if (q == nullptr || (n > 0 && parts[n] >= 60)) return nullptr;
    ++n;
    p = q;
    if (last) break;
  }
  if (n < 2) return nullptr;
  total = (n == 3 ? parts[0] * 3600 + parts[1] * 60 + parts[2] : parts[0] * 60 + parts[1]) * 1e9;
  return p;
}

// 250ms, 1.5 s, 2h45m, 00:01:02.5, PT1M30S: nanoseconds.
const char* scan_duration(const char* at, const char* end, const MatchContext&, const void*, Value& out) {
  const char* p = at;
  const bool negative = p != end && *p == '-';
  if (p != end && (*p == '-' || *p == '+')) ++p;
  double total = 0;
  const char* behind = nullptr;
  if (p != end && *p == 'P') {
    behind = iso_duration(p, end, total);
  } else if ((behind = clock_duration(p, end, total)) == nullptr) {
    total = 0;
    for (const char* q = p;;) {
      double number = 0;
      const char* after = plain_number(q, end, number);
      if (after == nullptr) break;
      if (after != end && *after == ' ') ++after;
      // Units may be followed by the next number: look for the one that ends where letters end.
      const Unit* unit = unit_at(after, end, kTimeUnits);
      if (unit == nullptr) break;
      total += number * unit->factor;
      behind = q = after + unit->name.size();
    }
  }
  if (behind == nullptr || !to_whole(negative ? -total : total, out)) return nullptr;
  return behind;
}

// 10KB, 1.5 GiB, 512 bytes: bytes. K, M, G, T alone are powers of 1024.
const char* scan_size(const char* at, const char* end, const MatchContext&, const void*, Value& out) {
  double number = 0;
  const char* p = plain_number(at, end, number);
  if (p == nullptr) return nullptr;
  if (p != end && *p == ' ') ++p;
  const Unit* unit = unit_at(p, end, kSizeUnits);
  if (unit == nullptr || !to_whole(number * unit->factor, out)) return nullptr;
  return p + unit->name.size();
}

const char* scan_port(const char* at, const char* end, const MatchContext& context, const void*, Value& out) {
  if (at == end || !is_digit(*at)) return nullptr;
  const char* p = scan_integer(at, end, context, nullptr, out);
  return p && out.as_integer() <= 65535 ? p : nullptr;
}

}  // namespace

void add_number_lexemes(std::vector<Lexeme>& all) {
  using namespace classes;
  const ByteClass number = digits() | ByteClass::of("+-");
  constexpr const char* kRange = "a range, for instance (100..599)";
  all.push_back(
      {"int", Kind::integer, scan_integer, number, "a whole number", "200\n-17\n+3", "abc", kRange});
  all.push_back({"decimal", Kind::decimal, scan_decimal, number | ByteClass::of("."), "a number",
                 "3.25\n200\n-1e6", "x1", kRange});
  all.push_back({"hex", Kind::integer, scan_hex, hex(), "a hexadecimal number", "0x1F\ncafe", "xyz", kRange});
  all.push_back({"grouped", Kind::integer, scan_grouped, number,
                 "a whole number, also with groups of three digits", "1,234,567\n-12,000\n999", ",123",
                 "separator=\",\"", prepare_grouped});
  all.push_back({"percent", Kind::decimal, scan_percent, number | ByteClass::of("."),
                 "a number and a percent sign", "12.5%\n100 %", "12.5", kRange});
  all.push_back({"duration", Kind::integer, scan_duration, number | ByteClass::of("P"),
                 "a duration such as 250ms, 2h45m or 00:01:30", "250ms\n1.5 s\n2h45m10s\n00:01:02.5\nPT1M30S",
                 "17", kRange});
  all.push_back({"size", Kind::integer, scan_size, digits(), "a size such as 10KB or 1.5 GiB",
                 "512 bytes\n10KB\n1.5 GiB\n64M", "10 x", kRange});
  all.push_back({"port", Kind::integer, scan_port, digits(), "a port number", "3464", "70000", kRange});
}

}  // namespace dingle
