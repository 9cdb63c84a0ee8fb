#include "core/time/zone.h"

#include <date/tz.h>

#include <map>
#include <set>
#include <vector>

#include "core/nearest.h"
#include "core/time/formats.h"
#include "core/time/instant.h"

namespace dingle {

Result<Zone> Zone::named(std::string_view name) {
  Zone zone;
  zone.name_ = std::string(name);
  if (name == "UTC" || name == "Z") return zone;
  if (!name.empty() && (name[0] == '+' || name[0] == '-')) {
    std::string probe = "1970-01-02T00:00:00" + zone.name_;
    ParsedTime parsed;
    const char* end = probe.data() + probe.size();
    if (scan_rfc3339(probe.data(), end, parsed) != end || parsed.zoneless)
      return Problem{"`" + zone.name_ + "` is not an offset from UTC", "write it as +hh:mm", 0, name.size()};
    zone.offset_ = kDay - parsed.nanoseconds;
    return zone;
  }
  try {
    zone.zone_ = date::locate_zone(zone.name_);
    return zone;
  } catch (const std::exception&) {  // the library's way to say: no such zone, or no database
    std::vector<std::string> all{"UTC"};
    try {
      for (const auto& z : date::get_tzdb().zones) all.push_back(z.name());
    } catch (const std::exception&) {
      return Problem{"the system has no time zone database, so the zone `" + zone.name_ + "` is unknown",
                     "install the package tzdata, or give a fixed offset such as +02:00", 0, name.size()};
    }
    return Problem{"unknown time zone `" + zone.name_ + "`", did_you_mean(name, all), 0, name.size()};
  }
}

const Zone* Zone::known(std::string_view name) {
  thread_local std::map<std::string, Zone, std::less<>> found;
  thread_local std::set<std::string, std::less<>> missed;
  if (auto it = found.find(name); it != found.end()) return &it->second;
  if (missed.contains(name)) return nullptr;
  try {
    Zone zone;
    zone.zone_ = date::locate_zone(name);
    zone.name_ = std::string(name);
    return &found.emplace(std::string(name), std::move(zone)).first->second;
  } catch (const std::exception&) {  // the library's way to say: no such zone, or no database
    if (missed.size() >= 1000) missed.clear();
    missed.emplace(name);
    return nullptr;
  }
}

std::int64_t Zone::to_utc(std::int64_t local) const {
  if (zone_ == nullptr) return local - offset_;
  date::local_info info =
      zone_->get_info(date::local_time<std::chrono::nanoseconds>{std::chrono::nanoseconds{local}});
  return local - std::chrono::nanoseconds{info.first.offset}.count();
}

std::int64_t Zone::to_local(std::int64_t utc) const {
  if (zone_ == nullptr) return utc + offset_;
  auto info = zone_->get_info(date::sys_time<std::chrono::nanoseconds>{std::chrono::nanoseconds{utc}});
  return utc + std::chrono::nanoseconds{info.offset}.count();
}

}  // namespace dingle
