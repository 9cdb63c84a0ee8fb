// Names of events, by the lines that they came of.
#pragma once

#include <array>
#include <cstdint>
#include <optional>
#include <string_view>

namespace dingle {

// The event's id for destinations that take it at least once: the same however often it is sent. 32 hex
// digits of a hash of (stream, position, branch).
struct EventId {
  std::array<char, 32> digits;
  std::string_view view() const { return {digits.data(), digits.size()}; }
};
EventId event_id(std::uint64_t stream, std::uint64_t position, std::uint64_t branch);
// What the digits say, for who compares many.
struct EventKey {
  std::uint64_t high = 0, low = 0;
  friend bool operator==(const EventKey&, const EventKey&) = default;
};
EventKey event_key(std::uint64_t stream, std::uint64_t position, std::uint64_t branch);
std::optional<EventKey> parse_event_id(std::string_view digits);  // nothing unless they are 32, in lower case

}  // namespace dingle
