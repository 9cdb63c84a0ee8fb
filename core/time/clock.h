// The two clocks of a program, as a seam: what waits, ages or makes rates is tested without sleeping.
#pragma once

#include <cstdint>

namespace dingle {

// Thread-safe. Nanoseconds.
class Clock {
 public:
  virtual ~Clock() = default;
  virtual std::int64_t wall() const = 0;    // since 1970 UTC; may be set, forwards and back
  virtual std::int64_t steady() const = 0;  // since some moment; only grows: what measures waits
};

const Clock& system_clock();  // the machine's

}  // namespace dingle
