// Comparing short texts of a length that is not known when compiling, without a call.
#pragma once

#include <cstdint>
#include <cstring>

namespace dingle {

inline bool same_bytes(const char* a, const char* b, std::size_t n) {
  auto differ8 = [](const char* x, const char* y) {
    std::uint64_t v, w;
    std::memcpy(&v, x, 8);
    std::memcpy(&w, y, 8);
    return v ^ w;
  };
  if (n >= 8) {
    for (std::size_t i = 0; i + 8 <= n; i += 8)
      if (differ8(a + i, b + i) != 0) return false;
    return differ8(a + n - 8, b + n - 8) == 0;
  }
  if (n >= 4) {
    std::uint32_t v, w, x, y;
    std::memcpy(&v, a, 4);
    std::memcpy(&w, b, 4);
    std::memcpy(&x, a + n - 4, 4);
    std::memcpy(&y, b + n - 4, 4);
    return ((v ^ w) | (x ^ y)) == 0;
  }
  for (std::size_t i = 0; i < n; ++i)
    if (a[i] != b[i]) return false;
  return true;
}

}  // namespace dingle
