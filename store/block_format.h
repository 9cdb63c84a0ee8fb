// What writing and reading a block share: the kinds of its columns. The format itself is described in
// block.h.
#pragma once

#include <cstddef>
#include <cstdint>

#include "core/value.h"

namespace dingle::block_format {

enum Fixed : std::uint8_t {
  kTimestamp = 32,
  kObserved,
  kSpool,
  kEpoch,
  kNumber,
  kOrdinal,
  kStream,
  kPosition,
  kBody,
  kBranch
};
inline constexpr std::size_t kFixed = kBranch - kTimestamp + 1;
inline constexpr std::uint8_t kLastFixed = kBody;         // of those that every block has
inline constexpr std::uint8_t kMore = 64;                 // added to the kind of what is not the event's own
inline constexpr std::size_t kOwnChunk = 4096;            // columns of this size have a chunk of their own
inline constexpr std::size_t kLargestChunk = 512u << 20;  // decompressed

inline bool is_textual(std::uint8_t kind) {
  return kind == kBody || kind == static_cast<std::uint8_t>(Kind::text) ||
         (kind >= static_cast<std::uint8_t>(Kind::ip) && kind <= static_cast<std::uint8_t>(Kind::map));
}
inline bool is_integral(std::uint8_t kind) {
  return (kind >= kTimestamp && kind < kBody) || kind == kBranch ||
         kind == static_cast<std::uint8_t>(Kind::integer) ||
         kind == static_cast<std::uint8_t>(Kind::timestamp);
}
inline std::int64_t wrapped(std::uint64_t v) { return static_cast<std::int64_t>(v); }

}  // namespace dingle::block_format
