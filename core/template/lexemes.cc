#include "core/template/lexemes.h"

#include <arpa/inet.h>

#include <charconv>
#include <cstring>

#include "core/time/formats.h"

namespace dingle {
namespace {

bool is_digit(char c) { return static_cast<unsigned char>(c - '0') <= 9; }
bool is_hex(char c) { return is_digit(c) || static_cast<unsigned char>((c | 0x20) - 'a') <= 5; }

Value text_between(const char* from, const char* to) {
  return Value::text({from, static_cast<std::size_t>(to - from)});
}

const char* scan_integer(const char* at, const char* end, const MatchContext&, Value& out) {
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

const char* scan_decimal(const char* at, const char* end, const MatchContext&, Value& out) {
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

const char* scan_hex(const char* at, const char* end, const MatchContext&, Value& out) {
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

// The longest of the words, in any case, that starts here and does not run on into a further letter.
template <std::size_t N>
const char* scan_words(const char* at, const char* end, const std::string_view (&words)[N],
                       std::size_t* which) {
  const char* p = at;
  char lower[16];
  std::size_t n = 0;
  while (p != end && n < sizeof lower && static_cast<unsigned char>((*p | 0x20) - 'a') < 26)
    lower[n++] = static_cast<char>(*p++ | 0x20);
  if (p != end && static_cast<unsigned char>((*p | 0x20) - 'a') < 26) return nullptr;
  for (std::size_t i = 0; i < N; ++i)
    if (std::string_view(lower, n) == words[i]) {
      *which = i;
      return p;
    }
  return nullptr;
}

constexpr std::string_view kBooleans[] = {"true", "false", "yes", "no", "on", "off"};

const char* scan_boolean(const char* at, const char* end, const MatchContext&, Value& out) {
  std::size_t which = 0;
  const char* p = scan_words(at, end, kBooleans, &which);
  if (p) out = Value::boolean(which % 2 == 0);
  return p;
}

constexpr std::string_view kLevels[] = {
    "trace",         "verbose",  "finest", "debug",   "fine",  "info",      "information",
    "informational", "notice",   "warn",   "warning", "error", "err",       "severe",
    "crit",          "critical", "alert",  "fatal",   "emerg", "emergency", "panic"};
constexpr int kLevelNumbers[] = {1, 1, 1, 5, 5, 9, 9, 9, 10, 13, 13, 17, 17, 17, 18, 18, 19, 21, 21, 21, 21};
static_assert(std::size(kLevels) == std::size(kLevelNumbers));

const char* scan_level(const char* at, const char* end, const MatchContext&, Value& out) {
  std::size_t which = 0;
  const char* p = scan_words(at, end, kLevels, &which);
  if (p) out = text_between(at, p);
  return p;
}

const char* ipv4_end(const char* at, const char* end) {
  const char* p = at;
  for (int part = 0; part < 4; ++part) {
    if (part != 0 && (p == end || *p++ != '.')) return nullptr;
    int v = 0, n = 0;
    while (p != end && n < 3 && is_digit(*p) && v * 10 + (*p - '0') <= 255 && !(n > 0 && v == 0))
      v = v * 10 + (*p++ - '0'), ++n;
    if (n == 0) return nullptr;
  }
  return p;
}

const char* scan_ipv4(const char* at, const char* end, const MatchContext&, Value& out) {
  const char* p = ipv4_end(at, end);
  if (p) out = Value::from_text(Kind::ip, {at, static_cast<std::size_t>(p - at)});
  return p;
}

const char* scan_ipv6(const char* at, const char* end, const MatchContext&, Value& out) {
  const char* p = at;
  bool colon = false;
  while (p != end && p - at < 45 && (is_hex(*p) || *p == ':' || *p == '.')) colon |= *p == ':', ++p;
  if (!colon) return nullptr;
  char text[46];
  unsigned char bytes[16];
  for (; p - at >= 2; --p) {  // the longest prefix that is an address
    std::memcpy(text, at, static_cast<std::size_t>(p - at));
    text[p - at] = '\0';
    if (inet_pton(AF_INET6, text, bytes) == 1) {
      out = Value::from_text(Kind::ip, {at, static_cast<std::size_t>(p - at)});
      return p;
    }
  }
  return nullptr;
}

const char* scan_ip(const char* at, const char* end, const MatchContext& context, Value& out) {
  if (const char* p = scan_ipv4(at, end, context, out)) return p;
  return scan_ipv6(at, end, context, out);
}

// Groups of hex digits of the given lengths with a separator between them.
const char* hex_groups(const char* at, const char* end, std::initializer_list<int> lengths,
                       const char* separators) {
  const char* p = at;
  char separator = '\0';
  for (int length : lengths) {
    if (p != at) {
      if (p == end || (separator ? *p != separator : *p == '\0' || !std::strchr(separators, *p)))
        return nullptr;
      separator = *p++;
    }
    for (int i = 0; i < length; ++i)
      if (p == end || !is_hex(*p++)) return nullptr;
  }
  return p != end && is_hex(*p) ? nullptr : p;
}

template <int Digits>
const char* scan_id(const char* at, const char* end, const MatchContext&, Value& out) {
  const char* p = hex_groups(at, end, {Digits}, "");
  if (p) out = text_between(at, p);
  return p;
}

const char* scan_mac(const char* at, const char* end, const MatchContext&, Value& out) {
  const char* p = hex_groups(at, end, {2, 2, 2, 2, 2, 2}, ":-");
  if (p) out = text_between(at, p);
  return p;
}

const char* scan_uuid(const char* at, const char* end, const MatchContext&, Value& out) {
  const char* p = hex_groups(at, end, {8, 4, 4, 4, 12}, "-");
  if (p) out = text_between(at, p);
  return p;
}

const char* scan_port(const char* at, const char* end, const MatchContext& context, Value& out) {
  if (at == end || !is_digit(*at)) return nullptr;
  const char* p = scan_integer(at, end, context, out);
  return p && out.as_integer() <= 65535 ? p : nullptr;
}

// "..." or '...'; a backslash keeps the next character from ending it. The value is what stands between the
// quotes, with \" \' \\ \/ \n \r \t decoded and other escapes as they are.
const char* scan_quoted(const char* at, const char* end, const MatchContext& context, Value& out) {
  if (at == end || (*at != '"' && *at != '\'')) return nullptr;
  bool escapes = false;
  const char* p = at + 1;
  for (; p != end && *p != *at; ++p)
    if (*p == '\\') {
      escapes = true;
      if (++p == end) return nullptr;
    }
  if (p == end) return nullptr;
  std::string_view inner(at + 1, static_cast<std::size_t>(p - at - 1));
  if (escapes && context.arena) {
    char* to = static_cast<char*>(context.arena->allocate(inner.size()));
    std::size_t n = 0;
    for (std::size_t i = 0; i < inner.size(); ++i) {
      char c = inner[i];
      if (c == '\\' && i + 1 < inner.size()) {
        char next = inner[++i];
        switch (next) {
          case 'n': c = '\n'; break;
          case 'r': c = '\r'; break;
          case 't': c = '\t'; break;
          case '"':
          case '\'':
          case '\\':
          case '/': c = next; break;
          default: to[n++] = '\\'; c = next;
        }
      }
      to[n++] = c;
    }
    inner = {to, n};
  }
  out = Value::text(inner);
  return p + 1;
}

template <const char* (*Scan)(const char*, const char*, ParsedTime&)>
const char* time_lexeme(const char* at, const char* end, const MatchContext&, Value& out) {
  ParsedTime t;
  const char* p = Scan(at, end, t);
  if (p) out = Value::timestamp(t.nanoseconds, t.zoneless);
  return p;
}

template <const char* (*Scan)(const char*, const char*, std::int64_t, ParsedTime&)>
const char* referring_time_lexeme(const char* at, const char* end, const MatchContext& context, Value& out) {
  ParsedTime t;
  const char* p = Scan(at, end, context.reference, t);
  if (p) out = Value::timestamp(t.nanoseconds, t.zoneless);
  return p;
}

std::vector<Lexeme> make_lexemes() {
  using namespace classes;
  const ByteClass number = digits() | ByteClass::of("+-");
  const ByteClass word = letters();
  return {
      {"int", Kind::integer, scan_integer, number, "a whole number", "200\n-17\n+3", "abc"},
      {"decimal", Kind::decimal, scan_decimal, number | ByteClass::of("."), "a number", "3.25\n200\n-1e6",
       "x1"},
      {"hex", Kind::integer, scan_hex, hex(), "a hexadecimal number", "0x1F\ncafe", "xyz"},
      {"boolean", Kind::boolean, scan_boolean, word, "true or false (also yes, no, on, off)", "true\nNo",
       "maybe"},
      {"level", Kind::text, scan_level, word, "a severity word", "ERROR\nwarn\nInfo", "loud"},
      {"ip", Kind::ip, scan_ip, hex() | ByteClass::of(":"), "an IP address", "192.0.2.17\n2001:db8::7",
       "300.1.2.3"},
      {"ipv4", Kind::ip, scan_ipv4, digits(), "an IPv4 address", "198.51.100.4", "2001:db8::7"},
      {"ipv6", Kind::ip, scan_ipv6, hex() | ByteClass::of(":"), "an IPv6 address", "2001:db8::7\n::1",
       "192.0.2.17"},
      {"port", Kind::integer, scan_port, digits(), "a port number", "3464", "70000"},
      {"mac", Kind::text, scan_mac, hex(), "a MAC address", "00:00:5e:00:53:01", "00:00:5e"},
      {"uuid", Kind::text, scan_uuid, hex(), "a UUID", "123e4567-e89b-12d3-a456-426614174000", "123e4567"},
      {"trace_id", Kind::text, scan_id<32>, hex(), "a trace id of 32 hexadecimal digits",
       "4bf92f3577b34da6a3ce929d0e0e4736", "4bf92f35"},
      {"span_id", Kind::text, scan_id<16>, hex(), "a span id of 16 hexadecimal digits", "00f067aa0ba902b7",
       "00f067"},
      {"quoted", Kind::text, scan_quoted, ByteClass::of("\"'"), "text in quotes", "\"berth free\"\n'it is'",
       "plain"},
      {"time", Kind::timestamp, referring_time_lexeme<scan_any_time>, letters() | digits(),
       "a time in a common form", "2026-11-23T10:00:00Z\n23/Nov/2026:10:00:00 +0100", "yesterday"},
      {"rfc3339", Kind::timestamp, time_lexeme<scan_rfc3339>, digits(), "a time such as 2026-11-23T10:00:00Z",
       "2026-11-23T10:00:00Z\n2026-11-23 10:00:00,125", "23.11.2026"},
      {"clf_time", Kind::timestamp, time_lexeme<scan_clf_time>, digits(),
       "a time such as 23/Nov/2026:10:00:00 +0100", "23/Nov/2026:10:00:00 +0100", "2026-11-23"},
      {"syslog_time", Kind::timestamp, referring_time_lexeme<scan_syslog_time>, letters(),
       "a time such as Nov 23 10:00:00", "Nov 23 10:00:00\nFeb  3 04:05:06", "23 Nov"},
      {"mail_time", Kind::timestamp, time_lexeme<scan_mail_time>, letters() | digits(),
       "a time such as Mon, 23 Nov 2026 10:00:00 +0000", "Mon, 23 Nov 2026 10:00:00 +0000", "2026-11-23"},
      {"ctime", Kind::timestamp, time_lexeme<scan_ctime>, letters(),
       "a time such as Mon Nov 23 10:00:00 2026", "Mon Nov 23 10:00:00 2026", "Nov 23"},
      {"slash_time", Kind::timestamp, time_lexeme<scan_slash_time>, digits(),
       "a time such as 2026/11/23 10:00:00", "2026/11/23 10:00:00", "2026-11-23"},
      {"dot_time", Kind::timestamp, time_lexeme<scan_dot_time>, digits(),
       "a time such as 23.11.2026 10:00:00", "23.11.2026 10:00:00", "2026-11-23"},
      {"epoch", Kind::timestamp, time_lexeme<scan_epoch_time>, digits(),
       "seconds (or milli-, micro-, nanoseconds) since 1970", "1795428000\n1795428000.125\n1795428000125",
       "17"},
  };
}

}  // namespace

const std::vector<Lexeme>& builtin_lexemes() {
  static const std::vector<Lexeme> all = make_lexemes();
  return all;
}

bool severity_number_of(std::string_view word, int& number) {
  std::size_t which = 0;
  const char* end = word.data() + word.size();
  if (word.empty() || scan_words(word.data(), end, kLevels, &which) != end) return false;
  number = kLevelNumbers[which];
  return true;
}

bool parse_ip(std::string_view text, unsigned char bytes[16]) {
  char copy[46];
  if (text.empty() || text.size() >= sizeof copy) return false;
  std::memcpy(copy, text.data(), text.size());
  copy[text.size()] = '\0';
  if (inet_pton(AF_INET, copy, bytes + 12) == 1) {
    std::memset(bytes, 0, 10);
    bytes[10] = bytes[11] = 0xFF;
    return true;
  }
  return inet_pton(AF_INET6, copy, bytes) == 1;
}

}  // namespace dingle
