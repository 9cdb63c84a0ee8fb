#include "core/condition/functions.h"

#include <locale.h>
#include <wctype.h>

#include <array>
#include <cmath>
#include <cstring>
#include <limits>

#include "core/condition/condition.h"
#include "core/template/lexemes.h"
#include "core/template/template.h"
#include "core/time/instant.h"

namespace dingle {
namespace {

constexpr std::string_view kNoNumber = "an operand is no number";
constexpr std::string_view kTooLarge = "the result is too large";
constexpr std::string_view kZero = "division by zero";
constexpr std::string_view kTooLong = "the text would be longer than 1 MiB";
constexpr std::string_view kNoCharacter = "the text is no UTF-8";
constexpr std::string_view kNoMoment = "an operand is no time";

bool continues(char c) { return (static_cast<unsigned char>(c) & 0xC0) == 0x80; }

std::string_view text_of(const Value& v, Arena& arena) {
  return v.is_textual() ? v.as_text() : arena.copy(v.to_string());
}

// As a number, also where it is a text that is one as a whole. Absent: it is none.
Value number_of(const Value& v) {
  if (v.is_number()) return v;
  if (!v.is_textual() || v.as_text().size() > 40) return {};
  Value number = convert_text(v.as_text(), Kind::integer, {});
  if (number.absent()) number = convert_text(v.as_text(), Kind::decimal, {});
  return number;
}

Value moment_of(const Value& v) {
  if (v.kind() == Kind::timestamp) return v;
  if (!v.is_textual() || v.as_text() == "now" || parse_duration(v.as_text())) return {};
  const auto instant = parse_moment(v.as_text(), 0);
  return instant ? Value::timestamp(*instant) : Value();
}

Value finite(double d, std::string_view& fault) {
  if (std::isfinite(d)) return Value::decimal(d);
  fault = kTooLarge;
  return {};
}

// Of moments: seconds between them, or so many seconds after one. Absent without a fault: neither is a moment.
Value moments(Function f, const Value& a, const Value& b, std::string_view& fault) {
  const bool left = a.kind() == Kind::timestamp, right = b.kind() == Kind::timestamp;
  if (f == Function::subtract && left && right) {
    std::int64_t difference = 0;
    if (!__builtin_sub_overflow(a.as_integer(), b.as_integer(), &difference))
      return Value::decimal(static_cast<double>(difference) / 1e9);
    fault = kTooLarge;
    return {};
  }
  if ((f != Function::add && f != Function::subtract) || (left && right) ||
      (right && f == Function::subtract)) {
    fault = "times can only be subtracted from each other, or moved by seconds";
    return {};
  }
  const Value seconds = number_of(left ? b : a);
  if (seconds.absent()) {
    fault = kNoNumber;
    return {};
  }
  // To the nanosecond also for whole seconds that a double of nanoseconds could not hold.
  const double whole = std::trunc(seconds.as_number());
  if (!(std::abs(whole) < 9.2e9)) {
    fault = kTooLarge;
    return {};
  }
  std::int64_t shift = static_cast<std::int64_t>(whole) * kSecond +
                       static_cast<std::int64_t>(std::llround((seconds.as_number() - whole) * 1e9));
  if (f == Function::subtract) shift = -shift;
  std::int64_t moved = 0;
  if (__builtin_add_overflow((left ? a : b).as_integer(), shift, &moved)) {
    fault = kTooLarge;
    return {};
  }
  return Value::timestamp(moved);
}

Value arithmetic(Function f, const Value& left, const Value& right, std::string_view& fault) {
  if (left.kind() == Kind::timestamp || right.kind() == Kind::timestamp)
    return moments(f, left, right, fault);
  const Value a = number_of(left), b = number_of(right);
  if (a.absent() || b.absent()) {
    fault = kNoNumber;
    return {};
  }
  const bool divides = f == Function::divide || f == Function::modulo;
  if (divides && b.as_number() == 0) {
    fault = kZero;
    return {};
  }
  if (a.kind() == Kind::integer && b.kind() == Kind::integer) {
    const std::int64_t x = a.as_integer(), y = b.as_integer();
    std::int64_t z = 0;
    bool over = false;
    switch (f) {
      case Function::add: over = __builtin_add_overflow(x, y, &z); break;
      case Function::subtract: over = __builtin_sub_overflow(x, y, &z); break;
      case Function::multiply: over = __builtin_mul_overflow(x, y, &z); break;
      default:
        if (y == -1)
          over = f == Function::divide && __builtin_sub_overflow(std::int64_t{0}, x, &z);
        else
          z = f == Function::divide ? x / y : x % y;
    }
    if (!over) return Value::integer(z);
    fault = kTooLarge;
    return {};
  }
  const double x = a.as_number(), y = b.as_number();
  switch (f) {
    case Function::add: return finite(x + y, fault);
    case Function::subtract: return finite(x - y, fault);
    case Function::multiply: return finite(x * y, fault);
    case Function::divide: return finite(x / y, fault);
    default: return finite(std::fmod(x, y), fault);
  }
}

// A whole decimal as an integer where it fits.
Value whole(double d) {
  return std::abs(d) < 9.2e18 ? Value::integer(static_cast<std::int64_t>(d)) : Value::decimal(d);
}

Value rounded(Function f, std::span<const Value> arguments, std::string_view& fault) {
  const Value v = number_of(arguments[0]);
  if (v.absent()) {
    fault = kNoNumber;
    return {};
  }
  if (f == Function::abs) {
    if (v.kind() == Kind::decimal) return Value::decimal(std::abs(v.as_decimal()));
    if (v.as_integer() >= 0) return v;
    return arithmetic(Function::subtract, Value::integer(0), v, fault);
  }
  if (f != Function::round) {
    if (v.kind() == Kind::integer) return v;
    return whole(f == Function::floor ? std::floor(v.as_decimal()) : std::ceil(v.as_decimal()));
  }
  if (arguments.size() == 1) return v.kind() == Kind::integer ? v : whole(std::round(v.as_decimal()));
  const Value digits = number_of(arguments[1]);
  if (digits.kind() != Kind::integer || digits.as_integer() < 0 || digits.as_integer() > 15) {
    fault = "a number is rounded to 0 to 15 digits";
    return {};
  }
  if (v.kind() == Kind::integer) return v;
  const double scale = std::pow(10.0, static_cast<double>(digits.as_integer()));
  const double scaled = std::round(v.as_decimal() * scale) / scale;
  return Value::decimal(std::isfinite(scaled) ? scaled : v.as_decimal());
}

Value concatenated(std::span<const Value> arguments, Arena& arena, std::string_view& fault) {
  std::array<std::string_view, 16> few;
  std::vector<std::string_view> many;
  std::span<std::string_view> texts(few);
  if (arguments.size() > few.size()) {
    many.resize(arguments.size());
    texts = many;
  }
  std::size_t size = 0;
  for (std::size_t i = 0; i < arguments.size(); ++i) size += (texts[i] = text_of(arguments[i], arena)).size();
  if (size > kLongestMadeText) {
    fault = kTooLong;
    return {};
  }
  if (size == 0) return Value::text("");
  char* const to = static_cast<char*>(arena.allocate(size));
  char* at = to;
  for (const std::string_view text : texts.first(arguments.size())) {
    if (!text.empty()) std::memcpy(at, text.data(), text.size());
    at += text.size();
  }
  return Value::text({to, size});
}

// Characters [from, from + count) of a text, counted from 1 (ISO 9075-2, 6.32); those before 1 are none.
Value substring(std::span<const Value> arguments, Arena& arena, std::string_view& fault) {
  const std::string_view text = text_of(arguments[0], arena);
  const Value from = number_of(arguments[1]);
  const Value count = arguments.size() > 2 ? number_of(arguments[2]) : Value::integer(0);
  if (from.kind() != Kind::integer || count.kind() != Kind::integer) {
    fault = kNoNumber;
    return {};
  }
  if (count.as_integer() < 0) {
    fault = "the length of a part of a text is negative";
    return {};
  }
  std::int64_t end = std::numeric_limits<std::int64_t>::max();
  if (arguments.size() > 2 && __builtin_add_overflow(from.as_integer(), count.as_integer(), &end))
    end = std::numeric_limits<std::int64_t>::max();
  std::size_t first = text.size(), behind = text.size();
  std::int64_t character = 0;
  for (std::size_t i = 0; i < text.size(); ++i) {
    if (i != 0 && continues(text[i])) continue;
    ++character;
    if (character >= end) {
      behind = i;
      break;
    }
    if (first == text.size() && character >= from.as_integer()) first = i;
  }
  return Value::text(first >= behind ? std::string_view() : text.substr(first, behind - first));
}

Value trimmed(std::span<const Value> arguments, CallDetail::Side side, Arena& arena) {
  std::string_view text = text_of(arguments[0], arena);
  const std::string_view set = arguments.size() > 1 ? text_of(arguments[1], arena) : std::string_view(" ");
  const auto character_at = [&](std::size_t i) {
    std::size_t end = i + 1;
    while (end < text.size() && continues(text[end])) ++end;
    return text.substr(i, end - i);
  };
  if (side != CallDetail::Side::trailing)
    while (!text.empty()) {
      const std::string_view c = character_at(0);
      if (set.find(c) == std::string_view::npos) break;
      text.remove_prefix(c.size());
    }
  if (side != CallDetail::Side::leading)
    while (!text.empty()) {
      std::size_t i = text.size() - 1;
      while (i > 0 && continues(text[i])) --i;
      if (set.find(text.substr(i)) == std::string_view::npos) break;
      text.remove_suffix(text.size() - i);
    }
  return Value::text(text);
}

void append_character(std::string& out, wint_t code) {
  if (code < 0x80) {
    out += static_cast<char>(code);
    return;
  }
  const int following = code < 0x800 ? 1 : code < 0x10000 ? 2 : 3;
  out += static_cast<char>((following == 1   ? 0xC0
                            : following == 2 ? 0xE0
                                             : 0xF0) |
                           (code >> (6 * following)));
  for (int i = following - 1; i >= 0; --i) out += static_cast<char>(0x80 | ((code >> (6 * i)) & 0x3F));
}

// In the case of single characters, by Unicode's simple mappings: a ß stays one.
Value in_case(bool upper, std::string_view text, Arena& arena, std::string_view& fault) {
  static const locale_t utf8 = newlocale(LC_CTYPE_MASK, "C.UTF-8", nullptr);
  bool ascii = true;
  for (const char c : text) ascii = ascii && static_cast<unsigned char>(c) < 0x80;
  if (ascii || utf8 == nullptr) {
    if (text.empty()) return Value::text("");
    char* to = static_cast<char*>(arena.allocate(text.size()));
    for (std::size_t i = 0; i < text.size(); ++i) {
      const char c = text[i];
      to[i] = upper ? (c >= 'a' && c <= 'z' ? static_cast<char>(c - 32) : c)
                    : (c >= 'A' && c <= 'Z' ? static_cast<char>(c + 32) : c);
    }
    return Value::text({to, text.size()});
  }
  std::string made;
  made.reserve(text.size());
  for (std::size_t i = 0; i < text.size();) {
    const auto lead = static_cast<unsigned char>(text[i]);
    const std::size_t length = lead < 0x80 ? 1 : lead >= 0xF0 ? 4 : lead >= 0xE0 ? 3 : lead >= 0xC2 ? 2 : 0;
    wint_t code = length == 1 ? lead : length == 2 ? lead & 0x1F : length == 3 ? lead & 0x0F : lead & 0x07;
    bool good = length != 0 && i + length <= text.size();
    for (std::size_t k = 1; good && k < length; ++k) {
      good = continues(text[i + k]);
      code = (code << 6) | (static_cast<unsigned char>(text[i + k]) & 0x3F);
    }
    if (!good || code > 0x10FFFF) {
      fault = kNoCharacter;
      return {};
    }
    const wint_t changed = upper ? towupper_l(code, utf8) : towlower_l(code, utf8);
    if (changed == code)
      made += text.substr(i, length);
    else
      append_character(made, changed);
    i += length;
  }
  return Value::text(arena.copy(made));
}

std::size_t characters(std::string_view text) {
  std::size_t n = 0;
  for (std::size_t i = 0; i < text.size(); ++i) n += i == 0 || !continues(text[i]);
  return n;
}

Value cast(const Value& v, Kind kind, Arena& arena, std::string_view& fault) {
  if (v.kind() == kind) return v;
  if (kind == Kind::text) return Value::text(text_of(v, arena));
  if (v.kind() == Kind::integer && kind == Kind::decimal)
    return Value::decimal(static_cast<double>(v.as_integer()));
  if (v.kind() == Kind::decimal && kind == Kind::integer) {
    if (std::abs(v.as_decimal()) < 0x1p63) return Value::integer(static_cast<std::int64_t>(v.as_decimal()));
    fault = kTooLarge;
    return {};
  }
  if (v.kind() == Kind::boolean && kind == Kind::integer) return Value::integer(v.as_boolean());
  if (v.kind() == Kind::integer && kind == Kind::boolean && (v.as_integer() == 0 || v.as_integer() == 1))
    return Value::boolean(v.as_integer() != 0);
  if (kind == Kind::timestamp) {
    if (const Value moment = moment_of(v); !moment.absent()) return moment;
  }
  Value made;
  if (v.is_textual()) made = convert_text(v.as_text(), kind, {&arena, 0});
  if (made.absent() && kind == Kind::integer && v.is_textual())  // as of a number
    if (const Value number = number_of(v); number.kind() == Kind::decimal)
      return cast(number, kind, arena, fault);
  if (made.absent()) fault = "a value cannot be of the type that it is cast to";
  return made;
}

Value extracted(const Value& v, const CallDetail& detail, std::string_view& fault) {
  const Value moment = moment_of(v);
  if (moment.absent()) {
    fault = kNoMoment;
    return {};
  }
  using Unit = CallDetail::Unit;
  if (detail.unit == Unit::epoch) return Value::decimal(static_cast<double>(moment.as_integer()) / 1e9);
  const std::int64_t local = detail.zone.to_local(moment.as_integer());
  const Civil c = civil_from_instant(local);
  const std::int64_t days = days_from_civil(c.year, c.month, c.day);
  const std::int64_t weekday = ((days + 4) % 7 + 7) % 7;  // 0: Sunday
  const std::int64_t day_of_year = days - days_from_civil(c.year, 1, 1) + 1;
  switch (detail.unit) {
    case Unit::year: return Value::integer(c.year);
    case Unit::quarter: return Value::integer((c.month + 2) / 3);
    case Unit::month: return Value::integer(c.month);
    case Unit::day: return Value::integer(c.day);
    case Unit::hour: return Value::integer(c.hour);
    case Unit::minute: return Value::integer(c.minute);
    case Unit::second:
      return c.nanosecond == 0 ? Value::integer(c.second) : Value::decimal(c.second + c.nanosecond / 1e9);
    case Unit::dow: return Value::integer(weekday);
    case Unit::isodow: return Value::integer(weekday == 0 ? 7 : weekday);
    case Unit::doy: return Value::integer(day_of_year);
    case Unit::week: {  // ISO 8601: the week of its Thursday
      const std::int64_t thursday = days + 4 - (weekday == 0 ? 7 : weekday);
      const Civil t = civil_from_instant(thursday * kDay);
      return Value::integer((thursday - days_from_civil(t.year, 1, 1)) / 7 + 1);
    }
    case Unit::epoch: break;
  }
  return {};
}

Value extreme(std::span<const Value> arguments, bool most, std::string_view& fault) {
  Value best = arguments[0];
  for (const Value& v : arguments.subspan(1)) {
    const auto order = compare(v, best);
    if (!order) {
      fault = "values of types that do not compare";
      return {};
    }
    if (most ? *order > 0 : *order < 0) best = v;
  }
  return best;
}

constexpr std::array<NamedFunction, 17> kNamed{{{"nullif", Function::nullif, 2, 2},
                                                {"greatest", Function::greatest, 1, 100},
                                                {"least", Function::least, 1, 100},
                                                {"substring", Function::substring, 2, 3},
                                                {"trim", Function::trim, 1, 2},
                                                {"ltrim", Function::trim, 1, 2},
                                                {"rtrim", Function::trim, 1, 2},
                                                {"lower", Function::lower, 1, 1},
                                                {"upper", Function::upper, 1, 1},
                                                {"char_length", Function::char_length, 1, 1},
                                                {"octet_length", Function::octet_length, 1, 1},
                                                {"mod", Function::modulo, 2, 2},
                                                {"abs", Function::abs, 1, 1},
                                                {"floor", Function::floor, 1, 1},
                                                {"ceiling", Function::ceiling, 1, 1},
                                                {"round", Function::round, 1, 2},
                                                {"character_length", Function::char_length, 1, 1}}};

constexpr std::array<std::string_view, 12> kUnits{"year",   "quarter", "month", "week", "day",    "hour",
                                                  "minute", "second",  "epoch", "dow",  "isodow", "doy"};

}  // namespace

std::span<const NamedFunction> named_functions() { return kNamed; }

std::optional<CallDetail::Unit> extract_unit(std::string_view name) {
  for (std::size_t i = 0; i < kUnits.size(); ++i)
    if (kUnits[i] == name) return static_cast<CallDetail::Unit>(i);
  return {};
}

const std::vector<std::string>& extract_units() {
  static const std::vector<std::string> all(kUnits.begin(), kUnits.end());
  return all;
}

Kind result_kind(Function f, const CallDetail& detail) {
  switch (f) {
    case Function::concatenate:
    case Function::substring:
    case Function::trim:
    case Function::lower:
    case Function::upper: return Kind::text;
    case Function::position:
    case Function::char_length:
    case Function::octet_length: return Kind::integer;
    case Function::cast: return detail.kind;
    default: return Kind::absent;
  }
}

Value call(Function f, std::span<const Value> arguments, const CallDetail& detail, Arena& arena,
           std::string_view& fault) {
  if (f == Function::nullif) {
    if (arguments[0].absent()) return {};
    const auto order = compare(arguments[0], arguments[1]);
    return order && *order == 0 ? Value() : arguments[0];
  }
  for (const Value& v : arguments)
    if (v.absent()) return {};
  switch (f) {
    case Function::add:
    case Function::subtract:
    case Function::multiply:
    case Function::divide:
    case Function::modulo: return arithmetic(f, arguments[0], arguments[1], fault);
    case Function::negate: return arithmetic(Function::subtract, Value::integer(0), arguments[0], fault);
    case Function::concatenate: return concatenated(arguments, arena, fault);
    case Function::nullif: break;
    case Function::greatest: return extreme(arguments, true, fault);
    case Function::least: return extreme(arguments, false, fault);
    case Function::cast: return cast(arguments[0], detail.kind, arena, fault);
    case Function::substring: return substring(arguments, arena, fault);
    case Function::trim: return trimmed(arguments, detail.side, arena);
    case Function::lower: return in_case(false, text_of(arguments[0], arena), arena, fault);
    case Function::upper: return in_case(true, text_of(arguments[0], arena), arena, fault);
    case Function::position: {
      const std::string_view part = text_of(arguments[0], arena), text = text_of(arguments[1], arena);
      const std::size_t at = text.find(part);
      return Value::integer(
          at == std::string_view::npos ? 0 : static_cast<std::int64_t>(characters(text.substr(0, at)) + 1));
    }
    case Function::char_length:
      return Value::integer(static_cast<std::int64_t>(characters(text_of(arguments[0], arena))));
    case Function::octet_length:
      return Value::integer(static_cast<std::int64_t>(text_of(arguments[0], arena).size()));
    case Function::extract: return extracted(arguments[0], detail, fault);
    case Function::abs:
    case Function::floor:
    case Function::ceiling:
    case Function::round: return rounded(f, arguments, fault);
  }
  return {};
}

}  // namespace dingle
