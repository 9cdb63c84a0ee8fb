// Delivery: takes one destination's events out of the spool, in order, and sees them through.
//
// A batch is tried until every event is accepted or set aside. What the destination cannot take now is tried
// again after a wait that doubles, with full jitter, or as long as it asked for. What it keeps refusing
// longer than `give_up_after` is kept as a dead letter. Then the cursor moves.
#pragma once

#include <atomic>
#include <condition_variable>
#include <memory>
#include <mutex>
#include <random>
#include <string>
#include <thread>
#include <vector>

#include "agent/destinations/destination.h"
#include "agent/engine/letters.h"
#include "agent/problems.h"

namespace dingle {

class DeliveryThread {
 public:
  struct Status {
    std::uint64_t retries = 0, delivered = 0;  // since the start of this thread
    std::int64_t lag = 0;                      // ns from reading to acceptance, of the newest event accepted
    bool failing = false;
  };
  DeliveryThread(const DestinationSettings& settings, std::uint32_t id,
                 std::unique_ptr<Destination> destination, Spool& spool, Letters& letters,
                 Problems& problems);
  ~DeliveryThread();  // stops without waiting for the queue
  Status status() const;
  std::uint32_t id() const { return id_; }

 private:
  void run();
  bool gather(std::vector<Spool::Read>& reads, std::uint64_t after);
  bool deliver(std::vector<DeliveryEvent>& events);
  bool set_aside(std::vector<DeliveryEvent>& events, const Delivery& delivery);
  bool wait(std::chrono::nanoseconds time);  // false: stopping
  std::chrono::nanoseconds backoff(unsigned attempt);

  const std::string name_;
  const std::uint32_t id_;
  std::chrono::nanoseconds first_, longest_, give_up_after_;
  std::unique_ptr<Destination> destination_;
  Spool& spool_;
  Letters& letters_;
  Problems& problems_;
  std::uint64_t set_aside_ = 0;  // of the batch in hand
  std::mt19937_64 random_{std::random_device{}()};
  std::atomic<std::uint64_t> retries_{0}, delivered_{0};
  std::atomic<std::int64_t> lag_{0};
  std::atomic<bool> failing_{false}, stopping_{false};
  std::mutex mutex_;
  std::condition_variable stop_;
  std::thread thread_;
};

// The names of a destination's counters in the spool.
std::string counter_of_destination(std::uint32_t id, const char* what);

}  // namespace dingle
