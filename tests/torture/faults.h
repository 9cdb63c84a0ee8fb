// What the torture tells the programs under test: a file, mapped by both sides (preload.cc reads it).
#pragma once

#include <atomic>
#include <cstdint>

namespace dingle {

struct Faults {
  std::atomic<std::int32_t> failing_syncs;      // so many of the next fsync and fdatasync calls fail
  std::atomic<std::int32_t> disk_full;          // 1: writing to files fails, after half of it is written
  std::atomic<std::int64_t> clock_seconds;      // added to the system's clock
  std::atomic<std::int32_t> slow_microseconds;  // every fsync and fdatasync takes so much longer
};

}  // namespace dingle
