// What a torture did, line by line with the time, for whoever looks for a fault.
#pragma once

#include <fmt/chrono.h>
#include <fmt/format.h>

#include <chrono>
#include <fstream>
#include <mutex>
#include <string>

namespace dingle {

// Thread-safe.
class Story {
 public:
  explicit Story(const std::string& path) : out_(path) {}
  void tell(const std::string& what) {
    std::lock_guard lock(mutex_);
    const auto now =
        std::chrono::time_point_cast<std::chrono::milliseconds>(std::chrono::system_clock::now());
    out_ << fmt::format("{:%H:%M:%S} {}", now, what) << std::endl;
  }

 private:
  std::mutex mutex_;
  std::ofstream out_;
};

}  // namespace dingle
