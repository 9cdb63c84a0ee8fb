#include "net/workers.h"

#include <utility>

namespace dingle {

Workers::~Workers() { end(); }

void Workers::run(std::function<void()> work) {
  std::lock_guard lock(mutex_);
  if (ending_) return;
  line_.push_back(std::move(work));
  if (idle_ >= line_.size() || threads_.size() == most_)
    wake_.notify_one();
  else
    threads_.emplace_back([this] { this->work(); });
}

void Workers::end() {
  std::vector<std::thread> threads;
  std::deque<std::function<void()>> dropped;  // ends without the lock
  {
    std::lock_guard lock(mutex_);
    ending_ = true;
    dropped.swap(line_);
    threads.swap(threads_);
  }
  wake_.notify_all();
  for (std::thread& t : threads) t.join();
}

void Workers::work() {
  std::unique_lock lock(mutex_);
  for (;;) {
    ++idle_;
    wake_.wait(lock, [&] { return ending_ || !line_.empty(); });
    --idle_;
    if (ending_) return;
    const std::function<void()> next = std::move(line_.front());
    line_.pop_front();
    lock.unlock();
    next();
    lock.lock();
  }
}

}  // namespace dingle
