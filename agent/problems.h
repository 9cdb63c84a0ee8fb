// What is wrong right now, for status and the log: each problem once, with since when and how often.
#pragma once

#include <cstdint>
#include <functional>
#include <map>
#include <mutex>
#include <string>
#include <vector>

namespace dingle {

// Thread-safe.
class Problems {
 public:
  struct Problem {
    std::string about, text;  // about: "source gate: /var/log/x", "destination operations"
    std::int64_t since = 0, last = 0;
    std::uint64_t times = 0;
  };
  // Called when a problem is new, when its text changes and when it ends; and with what is no problem, but to be known.
  enum class Said { problem, ended, note };
  using Listener = std::function<void(const Problem&, Said)>;
  explicit Problems(Listener listener) : listener_(std::move(listener)) {}

  void set(const std::string& about, const std::string& text);
  void clear(const std::string& about);
  void note(const std::string& about, const std::string& text);  // for the listener alone
  void clear_with_prefix(const std::string& prefix);
  void mute();  // the listener hears nothing any more: the program ends, not the problems
  std::vector<Problem> all() const;  // the oldest first; at most kMost

 private:
  static constexpr std::size_t kMost = 1000;
  mutable std::mutex mutex_;
  std::map<std::string, Problem> all_;
  Listener listener_;
};

}  // namespace dingle
