// What a destination lacks, has twice, or has in another order.
#pragma once

#include <functional>
#include <ostream>
#include <vector>

namespace dingle {

struct Count {
  long lost = 0, doubled = 0, disordered = 0;
  bool operator==(const Count&) const = default;
};
inline std::ostream& operator<<(std::ostream& out, const Count& c) {
  return out << c.lost << " lost, " << c.doubled << " doubled, " << c.disordered << " out of order";
}

// Counts numbers in the order in which they stand; `next` is called until it answers false.
inline Count count_numbers(long written, const std::function<bool(long)>& expected,
                           const std::function<bool(long&)>& next) {
  Count c;
  std::vector<std::uint8_t> seen(static_cast<std::size_t>(written), 0);
  long last = -1;
  for (long n = 0; next(n);) {
    if (n < 0 || n >= written) continue;
    if (seen[static_cast<std::size_t>(n)]++) ++c.doubled;
    c.disordered += n < last;
    last = n;
  }
  for (long n = 0; n < written; ++n) c.lost += expected(n) && !seen[static_cast<std::size_t>(n)];
  return c;
}

}  // namespace dingle
