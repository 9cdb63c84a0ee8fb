#include "core/time/buckets.h"

#include <cstdlib>
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

// The first instant behind the change of the clock between them; `as_now` holds for `now`, not for `other`.
template <class AsNow>
std::int64_t change_between(std::int64_t other, std::int64_t now, const AsNow& as_now) {
  const bool before = other < now;
  while (std::abs(now - other) > 1) {
    const std::int64_t middle = other + (now - other) / 2;
    (as_now(middle) ? now : other) = middle;
  }
  return before ? now : other;
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
  if (length <= kHour || length % kHour != 0) {
    bucket = {begin - (local - t), begin - (local - t) + length};
    // Where the clock is changed within it, it begins or ends there: buckets never overlap.
    const auto as_now = [&](std::int64_t at) { return zone.to_local(at) - at == local - t; };
    if (!as_now(bucket.begin)) bucket.begin = change_between(bucket.begin, t, as_now);
    if (!as_now(bucket.end - 1)) bucket.end = change_between(bucket.end - 1, t, as_now);
    return bucket;
  }
  return {zone.to_utc(begin), zone.to_utc(begin + length)};
}

}  // namespace dingle
