#include "core/time/buckets.h"

#include <limits>

#include "core/time/instant.h"

namespace dingle {
namespace {

constexpr std::int64_t kHour = 3600 * kSecond;
constexpr std::int64_t kFar = 9'000'000'000'000'000'000, kLong = 200'000'000'000'000'000;  // ns

std::int64_t behind_begin(std::int64_t t, std::int64_t length) {
  const std::int64_t behind = t % length;
  return behind < 0 ? behind + length : behind;
}

}  // namespace

TimeBucket bucket_at(std::int64_t t, std::int64_t length, const Zone& zone) {
  TimeBucket bucket;
  if (zone.is_utc() || t < -kFar || t > kFar || length > kLong) {
    const std::int64_t behind = behind_begin(t, length);
    // The first bucket of all may begin before the first instant, the last one end behind the last.
    if (__builtin_sub_overflow(t, behind, &bucket.begin))
      bucket.begin = std::numeric_limits<std::int64_t>::min();
    if (__builtin_add_overflow(t, length - behind, &bucket.end))
      bucket.end = std::numeric_limits<std::int64_t>::max();
    return bucket;
  }
  const std::int64_t local = zone.to_local(t), begin = local - behind_begin(local, length);
  if (length <= kHour || length % kHour != 0) return {begin - (local - t), begin - (local - t) + length};
  return {zone.to_utc(begin), zone.to_utc(begin + length)};
}

}  // namespace dingle
