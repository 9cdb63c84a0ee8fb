#include "spool/event_id.h"

#include <xxhash.h>

#include <charconv>

namespace dingle {

EventKey event_key(std::uint64_t stream, std::uint64_t position, std::uint64_t branch) {
  const std::uint64_t key[] = {stream, position, branch};
  const XXH128_hash_t hash = XXH3_128bits(key, sizeof key);
  return {hash.high64, hash.low64};
}
EventId event_id(std::uint64_t stream, std::uint64_t position, std::uint64_t branch) {
  const EventKey key = event_key(stream, position, branch);
  EventId id;
  for (std::size_t i = 0; i < 32; ++i)
    id.digits[i] = "0123456789abcdef"[((i < 16 ? key.high : key.low) >> (60 - 4 * (i % 16))) & 15];
  return id;
}
std::optional<EventKey> parse_event_id(std::string_view digits) {
  if (digits.size() != 32 || digits.find_first_not_of("0123456789abcdef") != std::string_view::npos)
    return std::nullopt;
  EventKey key;
  std::from_chars(digits.data(), digits.data() + 16, key.high, 16);
  std::from_chars(digits.data() + 16, digits.data() + 32, key.low, 16);
  return key;
}

}  // namespace dingle
