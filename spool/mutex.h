// A mutex whose use clang checks (-Wthread-safety): what it guards is touched by who holds it alone, and a function that needs it says
// so. See "Thread Safety Analysis" in clang's documentation. With other compilers the words mean nothing.
#pragma once

#include <chrono>
#include <condition_variable>
#include <mutex>

#if defined(__clang__)
#define DINGLE_CHECKED(what) __attribute__((what))
#else
#define DINGLE_CHECKED(what)
#endif
#define GUARDED_BY(mutex) DINGLE_CHECKED(guarded_by(mutex))
#define REQUIRES(...) DINGLE_CHECKED(requires_capability(__VA_ARGS__))
#define ACQUIRED_BEFORE(...) DINGLE_CHECKED(acquired_before(__VA_ARGS__))

namespace dingle {

class DINGLE_CHECKED(capability("mutex")) Mutex {
 public:
  void lock() DINGLE_CHECKED(acquire_capability()) { mutex_.lock(); }
  void unlock() DINGLE_CHECKED(release_capability()) { mutex_.unlock(); }
  bool try_lock() DINGLE_CHECKED(try_acquire_capability(true)) { return mutex_.try_lock(); }

 private:
  friend class Signal;
  std::mutex mutex_;
};

// Holds a mutex while it lives, or until `unlock`. A function that is called with a mutex held, and lets go of it meanwhile, unlocks
// and locks the mutex itself.
class DINGLE_CHECKED(scoped_lockable) Lock {
 public:
  explicit Lock(Mutex& mutex) DINGLE_CHECKED(acquire_capability(mutex)) : mutex_(mutex) { mutex_.lock(); }
  ~Lock() DINGLE_CHECKED(release_capability()) {
    if (held_) mutex_.unlock();
  }
  void unlock() DINGLE_CHECKED(release_capability()) {
    held_ = false;
    mutex_.unlock();
  }
  Lock(const Lock&) = delete;
  Lock& operator=(const Lock&) = delete;

 private:
  Mutex& mutex_;
  bool held_ = true;
};

// Waits while the mutex is let go of. The condition is looked at with it held:
//   changed_.wait(mutex_, [&]() REQUIRES(mutex_) { return stopping_ || !queue_.empty(); });
class Signal {
 public:
  void notify_one() { condition_.notify_one(); }
  void notify_all() { condition_.notify_all(); }

  // Until somebody notifies, or sooner.
  void wait(Mutex& mutex) REQUIRES(mutex) DINGLE_CHECKED(no_thread_safety_analysis) {
    Adopted lock(mutex);
    condition_.wait(lock.held);
  }
  void wait_for(Mutex& mutex, std::chrono::nanoseconds time) REQUIRES(mutex)
      DINGLE_CHECKED(no_thread_safety_analysis) {
    Adopted lock(mutex);
    condition_.wait_for(lock.held, time);
  }
  template <class Holds>
  void wait(Mutex& mutex, Holds holds) REQUIRES(mutex) DINGLE_CHECKED(no_thread_safety_analysis) {
    Adopted lock(mutex);
    condition_.wait(lock.held, holds);
  }
  // False: it does not hold, and the time is over.
  template <class Holds>
  bool wait_for(Mutex& mutex, std::chrono::nanoseconds time, Holds holds) REQUIRES(mutex)
      DINGLE_CHECKED(no_thread_safety_analysis) {
    return wait_until(mutex, std::chrono::steady_clock::now() + time, holds);
  }
  template <class Holds>
  bool wait_until(Mutex& mutex, std::chrono::steady_clock::time_point deadline, Holds holds) REQUIRES(mutex)
      DINGLE_CHECKED(no_thread_safety_analysis) {
    Adopted lock(mutex);
    return condition_.wait_until(lock.held, deadline, holds);
  }

 private:
  struct Adopted {  // by a lock of the standard library, as its condition variables want it
    std::unique_lock<std::mutex> held;
    explicit Adopted(Mutex& mutex) : held(mutex.mutex_, std::adopt_lock) {}
    ~Adopted() { held.release(); }
  };
  std::condition_variable condition_;
};

}  // namespace dingle
