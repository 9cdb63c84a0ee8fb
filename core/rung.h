// How a text is known again at a place of it: by the bytes before it.
#pragma once

#include <xxhash.h>

#include <cstdint>
#include <string_view>

namespace dingle {

inline constexpr std::uint64_t kRungBytes = 256;

struct Rung {
  std::uint64_t position = 0, hash = 0;  // hash: XXH64 of the up to kRungBytes bytes that end there
  friend bool operator==(const Rung&, const Rung&) = default;
};

inline std::uint64_t rung_hash(std::string_view bytes) { return XXH64(bytes.data(), bytes.size(), 0); }

}  // namespace dingle
