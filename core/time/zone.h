// Time zones by their names in the tz database ("Europe/Stockholm"), "UTC", or a fixed offset ("+02:00").
#pragma once

#include <cstdint>
#include <string>
#include <string_view>

#include "core/result.h"

namespace date {
class time_zone;
}

namespace dingle {

// A value; cheap to copy; the database behind it lives as long as the process.
class Zone {
 public:
  Zone() = default;  // UTC
  // Reads the system's tz database at the first call. An unknown name answers the nearest ones.
  static Result<Zone> named(std::string_view name);
  // The zone of that name in the tz database, or nullptr. Remembered for the life of the thread, as are the
  // last thousand names that are none.
  static const Zone* known(std::string_view name);

  // The instant of a local time given as nanoseconds since 1970-01-01T00:00:00 local. In the hour that a DST
  // change repeats, the first of the two; in the gap that it leaves, the offset from before the change is
  // used.
  std::int64_t to_utc(std::int64_t local_nanoseconds) const;
  std::int64_t to_local(std::int64_t utc_nanoseconds) const;
  const std::string& name() const { return name_; }
  bool is_utc() const { return zone_ == nullptr && offset_ == 0; }

 private:
  std::string name_ = "UTC";
  const date::time_zone* zone_ = nullptr;  // nullptr: the fixed offset
  std::int64_t offset_ = 0;                // nanoseconds east of UTC
};

}  // namespace dingle
