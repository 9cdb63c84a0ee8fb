#include "client/times.h"

#include <fmt/format.h>

#include <cstdlib>

#include "client/table.h"
#include "core/time/formats.h"
#include "core/time/instant.h"

namespace dingle {
namespace {

// Of a text by RFC 3339; whether it is one.
bool is_instant(const std::string& text, ParsedTime& t) {
  const char* end = text.data() + text.size();
  return scan_rfc3339(text.data(), end, t) == end;
}

}  // namespace

std::string shown_offset(const Client& client, std::int64_t instant) {
  const std::int64_t minutes = (client.zone.to_local(instant) - instant) / (60 * kSecond);
  if (minutes == 0) return "Z";
  return fmt::format("{}{:02}:{:02}", minutes < 0 ? '-' : '+', std::abs(minutes) / 60,
                     std::abs(minutes) % 60);
}

std::string shown_time(const Client& client, std::int64_t instant) {
  return format_short(client.zone.to_local(instant)) + shown_offset(client, instant);
}

std::string shown_time(const Client& client, const std::string& text) {
  ParsedTime t;
  return is_instant(text, t) ? shown_time(client, t.nanoseconds) : one_line(text);
}

std::string shown_second(const Client& client, const std::string& text) {
  ParsedTime t;
  if (!is_instant(text, t)) return one_line(text);
  return format_short(client.zone.to_local(t.nanoseconds)).substr(0, 19) +
         shown_offset(client, t.nanoseconds);
}

std::string asked_time(const Client& client, const std::string& text) {
  const std::string whole = text.size() == 10 ? text + "T00:00:00" : text;  // a date alone
  ParsedTime t;
  if (!is_instant(whole, t) || !t.zoneless) return text;
  return format_rfc3339(client.zone.to_utc(t.nanoseconds));
}

}  // namespace dingle
