// Threads for work that waits: at most so many, begun when they are needed, and what comes meanwhile stands in line.
#pragma once

#include <condition_variable>
#include <deque>
#include <functional>
#include <mutex>
#include <thread>
#include <vector>

namespace dingle {

// Thread-safe.
class Workers {
 public:
  explicit Workers(std::size_t most) : most_(most) {}
  ~Workers();  // what stands in line is dropped; returns when no work is under way
  Workers(const Workers&) = delete;
  Workers& operator=(const Workers&) = delete;
  void run(std::function<void()> work);  // which does not throw
  void end();                            // as the destructor; what comes afterwards is dropped

 private:
  void work();
  const std::size_t most_;
  std::mutex mutex_;  // guards what follows
  std::condition_variable wake_;
  std::deque<std::function<void()>> line_;
  std::vector<std::thread> threads_;
  std::size_t idle_ = 0;
  bool ending_ = false;
};

}  // namespace dingle
