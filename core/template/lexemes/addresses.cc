// Addresses: IP, MAC, host and port, URI.
#include <arpa/inet.h>

#include <cstring>

#include "core/template/lexemes/parts.h"

namespace dingle {

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

const char* ipv6_end(const char* at, const char* end) {
  const char* p = at;
  bool colon = false;
  while (p != end && p - at < 45 && (is_hex(*p) || *p == ':' || *p == '.')) colon |= *p == ':', ++p;
  if (!colon) return nullptr;
  char text[46];
  unsigned char bytes[16];
  for (; p - at >= 2; --p) {  // the longest prefix that is an address
    std::memcpy(text, at, static_cast<std::size_t>(p - at));
    text[p - at] = '\0';
    if (inet_pton(AF_INET6, text, bytes) == 1) return p;
  }
  return nullptr;
}

namespace {

const char* scan_ipv4(const char* at, const char* end, const MatchContext&, const void*, Value& out) {
  const char* p = ipv4_end(at, end);
  if (p) out = Value::from_text(Kind::ip, {at, static_cast<std::size_t>(p - at)});
  return p;
}

const char* scan_ipv6(const char* at, const char* end, const MatchContext&, const void*, Value& out) {
  const char* p = ipv6_end(at, end);
  if (p) out = Value::from_text(Kind::ip, {at, static_cast<std::size_t>(p - at)});
  return p;
}

const char* scan_ip(const char* at, const char* end, const MatchContext& context, const void*, Value& out) {
  if (const char* p = scan_ipv4(at, end, context, nullptr, out)) return p;
  return scan_ipv6(at, end, context, nullptr, out);
}

// Six pairs of hexadecimal digits with one kind of separator.
const char* scan_mac(const char* at, const char* end, const MatchContext&, const void*, Value& out) {
  constexpr std::ptrdiff_t kLength = 17;
  if (end - at < kLength || (at[2] != ':' && at[2] != '-')) return nullptr;
  for (std::ptrdiff_t i = 0; i < kLength; ++i)
    if (i % 3 == 2 ? at[i] != at[2] : !is_hex(at[i])) return nullptr;
  if (end - at > kLength && is_hex(at[kLength])) return nullptr;
  out = text_between(at, at + kLength);
  return at + kLength;
}

bool host_byte(char c) {
  return is_letter(c) || is_digit(c) || c == '-' || c == '.' || c == '_' ||
         static_cast<unsigned char>(c) >= 0x80;
}

// A host, and behind a colon a port from 0 to 65535 if there is one. An IPv6 address stands in brackets.
const char* scan_host(const char* at, const char* end, const MatchContext& context, Value& host,
                      Value& port) {
  const char* p = at;
  if (p != end && *p == '[') {
    p = ipv6_end(at + 1, end);
    if (p == nullptr || p == end || *p != ']') return nullptr;
    host = text_between(at + 1, p++);
  } else {
    while (p != end && host_byte(*p)) ++p;
    if (p == at) return nullptr;
    host = text_between(at, p);
  }
  if (end - p < 2 || *p != ':' || !is_digit(p[1])) return p;
  Value number;
  const char* behind = scan_integer(p + 1, end, context, nullptr, number);
  if (behind == nullptr || number.as_integer() > 65535) return p;
  port = number;
  return behind;
}

// What is kept under one name stays the text that it is.
const char* as_text(const FieldScan& scan, const char* at, const char* end, const MatchContext& context,
                    Value& out) {
  Value columns[8];
  const char* p = scan.scan(at, end, context, "", columns);
  if (p != nullptr) out = text_between(at, p);
  return p;
}

class HostPort final : public FieldScan {
 public:
  HostPort() { columns_ = {{"host", Kind::text}, {"port", Kind::integer}}; }
  const char* scan(const char* at, const char* end, const MatchContext& context, std::string_view,
                   Value* columns) const override {
    const char* p = scan_host(at, end, context, columns[0], columns[1]);
    return p != nullptr && !columns[1].absent() ? p : nullptr;
  }
  const char* scan_whole(const char* at, const char* end, const MatchContext& context,
                         Value& out) const override {
    return as_text(*this, at, end, context, out);
  }
};

// RFC 3986, section 3: scheme "://" [ user "@" ] host [ ":" port ] path [ "?" query ] [ "#" fragment ].
class Uri final : public FieldScan {
 public:
  Uri() {
    for (const char* name : {"scheme", "user", "address", "port", "path", "query", "fragment"})
      columns_.push_back({name, std::string_view(name) == "port" ? Kind::integer : Kind::text});
  }
  const char* scan(const char* at, const char* end, const MatchContext& context, std::string_view,
                   Value* columns) const override {
    const char* p = at;
    if (p == end || !is_letter(*p)) return nullptr;
    while (p != end && (is_letter(*p) || is_digit(*p) || *p == '+' || *p == '.' || *p == '-')) ++p;
    if (end - p < 3 || std::memcmp(p, "://", 3) != 0) return nullptr;
    columns[0] = text_between(at, p);
    p += 3;
    const char* q = p;
    while (q != end && of_uri(*q) && *q != '/' && *q != '?' && *q != '#' && *q != '@') ++q;
    if (q != end && *q == '@') {
      columns[1] = text_between(p, q);
      p = q + 1;
    }
    if (const char* host = scan_host(p, end, context, columns[2], columns[3])) p = host;
    auto part = [&](Value& to, std::string_view stops) {
      const char* from = p;
      while (p != end && of_uri(*p) && stops.find(*p) == std::string_view::npos) ++p;
      to = text_between(from, p);
    };
    if (p != end && *p == '/') part(columns[4], "?#");
    if (p != end && *p == '?') ++p, part(columns[5], "#");
    if (p != end && *p == '#') ++p, part(columns[6], "");
    while (p != end && of_uri(*p)) ++p;  // what is no part of a sound URI belongs to it all the same
    return p;
  }
  const char* scan_whole(const char* at, const char* end, const MatchContext& context,
                         Value& out) const override {
    return as_text(*this, at, end, context, out);
  }

 private:
  static bool of_uri(char c) {
    return static_cast<unsigned char>(c) > ' ' && c != '"' && c != '<' && c != '>' && c != 0x7F;
  }
};

}  // namespace

void add_address_lexemes(std::vector<Lexeme>& all) {
  using namespace classes;
  all.push_back({"ip", Kind::ip, scan_ip, hex() | ByteClass::of(":"), "an IP address",
                 "192.0.2.17\n2001:db8::7", "300.1.2.3"});
  all.push_back({"ipv4", Kind::ip, scan_ipv4, digits(), "an IPv4 address", "198.51.100.4", "2001:db8::7"});
  all.push_back({"ipv6", Kind::ip, scan_ipv6, hex() | ByteClass::of(":"), "an IPv6 address",
                 "2001:db8::7\n::1", "192.0.2.17"});
  all.push_back({"mac", Kind::text, scan_mac, hex(), "a MAC address", "00:00:5e:00:53:01\n00-00-5E-00-53-01",
                 "00:00:5e"});
}

FieldPattern endpoint_pattern() {
  using namespace classes;
  return {"endpoint",
          letters() | digits() | ByteClass::of("[-._") | beyond_ascii(),
          true,
          "a host and a port such as gate-7:8080",
          "gate-7.skerry.example:8080\n192.0.2.7:443\n[2001:db8::7]:514",
          "gate-7",
          "",
          [](ParameterReader&, const FieldScanMaking&) -> std::shared_ptr<const FieldScan> {
            return std::make_shared<HostPort>();
          }};
}

FieldPattern uri_pattern() {
  return {"uri",
          classes::letters(),
          true,
          "a URI",
          "https://skerry.example/timetable?ship=tern\nhttp://[2001:db8::7]:8080/",
          "skerry",
          "",
          [](ParameterReader&, const FieldScanMaking&) -> std::shared_ptr<const FieldScan> {
            return std::make_shared<Uri>();
          }};
}

}  // namespace dingle
