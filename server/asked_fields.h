// Which fields questions to the stores named, since the program began.
#pragma once

#include <cstdint>
#include <map>
#include <mutex>
#include <string>
#include <vector>

#include "core/names.h"

namespace dingle {

// Thread-safe. Remembers at most kMost names: those that come later are not remembered, and `full` says so.
class AskedFields {
 public:
  static constexpr std::size_t kMost = 10'000;
  void note(const std::vector<FieldId>& fields, std::int64_t now) {
    const std::lock_guard lock(mutex_);
    for (const FieldId field : fields) {
      const std::string name(field_name(field));
      if (const auto it = last_.find(name); it != last_.end())
        it->second = now;
      else if (last_.size() < kMost)
        last_.emplace(name, now);
      else
        full_ = true;
    }
  }
  std::int64_t last(const std::string& name) const {  // ns since 1970 UTC; 0: never
    const std::lock_guard lock(mutex_);
    const auto it = last_.find(name);
    return it == last_.end() ? 0 : it->second;
  }
  bool full() const {
    const std::lock_guard lock(mutex_);
    return full_;
  }

 private:
  mutable std::mutex mutex_;
  std::map<std::string, std::int64_t> last_;
  bool full_ = false;
};

}  // namespace dingle
