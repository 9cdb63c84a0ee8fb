// Pieces of time of one length, in which events are counted.
#pragma once

#include <cstdint>

#include "core/time/zone.h"

namespace dingle {

struct TimeBucket {
  std::int64_t begin = 0, end = 0;  // ns since 1970 UTC; `end` is behind it
  bool holds(std::int64_t t) const { return t >= begin && t < end; }
};

// The bucket of `length` ns (above 0) that holds `t`: they begin at whole multiples of it since 1970-01-01T00:00 by the zone's
// clock. Buckets of several hours follow the clock where it is changed: a day may have 23 or 25 hours. Others have their length, and are
// shorter where the clock is changed within them. Times of which the zone cannot say anything (before 1684, after 2255) are counted as UTC. Costs at most three look-ups in
// the zone, and some fifty where the clock is changed within it.
TimeBucket bucket_at(std::int64_t t, std::int64_t length, const Zone& zone);

}  // namespace dingle
