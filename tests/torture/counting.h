// What a destination lacks, has twice, or has in another order.
#pragma once

#include <fmt/format.h>

#include <functional>
#include <ostream>
#include <string>
#include <vector>

namespace dingle {

struct Count {
  long lost = 0, doubled = 0, disordered = 0;
  std::string where;  // the first ranges of numbers that are lost or there twice, for a person
  bool good() const { return lost + doubled + disordered == 0; }
};
inline std::ostream& operator<<(std::ostream& out, const Count& c) {
  return out << c.lost << " lost, " << c.doubled << " doubled, " << c.disordered << " out of order"
             << c.where;
}
inline void add(Count& to, const Count& c, const std::string& name) {
  to.lost += c.lost;
  to.doubled += c.doubled;
  to.disordered += c.disordered;
  if (!c.good()) to.where += "\n    " + name + ":" + c.where;
}

// Counts numbers from how often each is there, and how often it should be at least.
inline Count count_seen(const std::vector<std::uint8_t>& seen, const std::function<bool(long)>& expected) {
  constexpr int kMostRanges = 8;
  Count c;
  int ranges = 0;
  char before = ' ';
  const long written = static_cast<long>(seen.size());
  for (long n = 0; n <= written; ++n) {
    const int times = n == written ? 1 : seen[static_cast<std::size_t>(n)];
    const char now = n < written && times == 0 && expected(n) ? '-' : times > 1 ? '+' : ' ';
    c.lost += now == '-';
    c.doubled += now == '+' ? times - 1 : 0;
    if (now != before && before != ' ' && ranges <= kMostRanges) c.where += fmt::format("..{}", n - 1);
    if (now != before && now != ' ' && ++ranges <= kMostRanges) c.where += fmt::format(" {}{}", now, n);
    before = now;
  }
  return c;
}

// Counts numbers in the order in which they stand; `next` is called until it answers false.
inline Count count_numbers(long written, const std::function<bool(long)>& expected,
                           const std::function<bool(long&)>& next) {
  std::vector<std::uint8_t> seen(static_cast<std::size_t>(written), 0);
  long last = -1, disordered = 0;
  std::string turns;
  for (long n = 0; next(n);) {
    if (n < 0 || n >= written) continue;
    if (seen[static_cast<std::size_t>(n)] < 255) ++seen[static_cast<std::size_t>(n)];
    if (n < last && ++disordered <= 8) turns += fmt::format(" {}>{}", last, n);
    last = n;
  }
  Count c = count_seen(seen, expected);
  c.disordered = disordered;
  c.where += turns;
  return c;
}

}  // namespace dingle
