// Whether events of a store are on their way from one index to another: while they are, some would be found twice.
//
// Who searches looks at an even count, and again when it is done: if that has changed, it searches anew. Who has no more time for
// that holds moves off.
#pragma once

#include <chrono>
#include <condition_variable>
#include <cstdint>
#include <mutex>
#include <optional>

namespace dingle {

// Thread-safe.
class Moves {
 public:
  // The count, once no move is under way; nothing if one is until then.
  std::optional<std::uint64_t> still(std::chrono::steady_clock::time_point until) {
    std::unique_lock lock(mutex_);
    if (!changed_.wait_until(lock, until, [&] { return count_ % 2 == 0; })) return std::nullopt;
    return count_;
  }
  // The same; then none begins before as many `let_go`.
  bool hold(std::chrono::steady_clock::time_point until) {
    std::unique_lock lock(mutex_);
    if (!changed_.wait_until(lock, until, [&] { return count_ % 2 == 0; })) return false;
    ++holders_;
    return true;
  }
  void let_go() {
    const std::lock_guard lock(mutex_);
    --holders_;
    changed_.notify_all();
  }

  void begin() {
    std::unique_lock lock(mutex_);
    changed_.wait(lock, [&] { return holders_ == 0; });
    count_ += 1 - count_ % 2;
  }
  void end() {
    const std::lock_guard lock(mutex_);
    count_ += count_ % 2;
    changed_.notify_all();
  }
  bool under_way() const {
    const std::lock_guard lock(mutex_);
    return count_ % 2 != 0;
  }

 private:
  mutable std::mutex mutex_;
  std::condition_variable changed_;
  std::uint64_t count_ = 0;  // odd while events are moved
  int holders_ = 0;
};

}  // namespace dingle
