// Delivery: takes one destination's events out of the spool, in order, and sees them through.
//
// A batch is tried until every event is accepted or set aside. What the destination cannot take now is tried
// again after a wait that doubles, with full jitter, or as long as it asked for. What it refuses is kept as a
// dead letter; so is what it keeps turning away longer than `give_up_after` while it takes other events. Where all of a
// batch is answered with no so long, it is tried whether others are taken: the first waiting event of another lane; if there
// is none, the next one of its own, once the letter of the one before it is durable, which is withdrawn if that one is not
// taken either; and each of the batch alone. What is taken in such a trial is not sent again (but after a crash, where the destination cannot tell). A
// batch that is refused as a whole is halved until the events to blame are found. What it has no time for is
// sent in smaller parts, which grow again. Then the cursor moves.
#pragma once

#include <atomic>
#include <functional>
#include <map>
#include <memory>
#include <random>
#include <set>
#include <span>
#include <string>
#include <thread>
#include <vector>

#include "agent/destinations/destination.h"
#include "agent/engine/batch_reader.h"
#include "agent/engine/histogram.h"
#include "agent/engine/letters.h"
#include "agent/engine/stored_count.h"
#include "agent/problems.h"
#include "core/steps/sealing.h"
#include "spool/mutex.h"

namespace dingle {

class DeliveryThread {
 public:
  // Since the start of this thread. Times in ns since 1970; 0: never.
  struct Status {
    std::uint64_t retries = 0, delivered = 0;
    std::int64_t lag = 0;       // ns from reading to acceptance, of the newest event accepted
    bool failing = false;       // the last delivery was not accepted
    std::string reason;         // failing: why
    std::int64_t since = 0;     // when it began to fail, or to work
    std::int64_t next_try = 0;  // failing: when it is tried again
    std::int64_t last_accepted = 0;
    std::size_t at_once = 0;  // events, while it is too slow for as many as it may get
    bool tells_stored = false;
    std::optional<std::pair<std::uint64_t, std::uint64_t>>
        kept;  // what its files were written with; what became of that
  };
  // What seals the letters of lines that another pipeline hides; nullptr without a key. Called by the thread.
  using Holder = std::function<std::shared_ptr<const Sealing>()>;
  DeliveryThread(const DestinationSettings& settings, std::uint32_t id,
                 std::unique_ptr<Destination> destination, Spool& spool, Letters& letters, Problems& problems,
                 Holder holder = {});
  ~DeliveryThread();  // stops without waiting for the queue
  Status status() const;
  void try_now();                                        // it does not wait any longer before the next try
  const Histogram& latency() const { return latency_; }  // from reading a line to its acceptance
  std::uint32_t id() const { return id_; }

 private:
  struct Turned {  // away
    std::vector<DeliveryEvent> events;
    std::vector<std::string> reasons;
  };
  void run();
  void deliver_all();
  void pass_deferred();
  void housekeep();
  std::uint64_t resume() const;
  bool deliver_in_parts(std::span<const DeliveryEvent> events);
  bool deliver(std::span<const DeliveryEvent> events);
  // What is known of a destination that turns all of a batch away: whether it takes others, and whether each is to be tried
  // alone, however many were turned away so.
  struct Trial {
    bool takes_others = false, each_alone = false;
  };
  Delivery offer(std::span<const DeliveryEvent> events, unsigned attempt, const Trial& trial, Turned& left,
                 Turned& refused);
  void adapt(std::size_t events, const Delivery& delivery);
  bool set_aside(const Turned& turned, unsigned attempts);
  bool takes_others(const Turned& turned, unsigned attempts);
  bool takes(const DeliveryEvent& event, bool of_batch);
  void withdraw(const DeliveryEvent& event);
  void failing(const std::string& reason, std::chrono::nanoseconds wait);
  void accepted(std::span<const DeliveryEvent> events, const Delivery& delivery);
  void compare(const Delivery& connected);
  void go_back();
  std::uint64_t rewind(std::set<std::pair<std::uint64_t, std::uint32_t>>& kept);
  void go_on_sending_again();
  void sent_again();
  std::string again_key() const;  // of the state that says since which record it is sent again what it lost
  bool wait(std::chrono::nanoseconds time);  // false: stopping
  std::chrono::nanoseconds backoff(unsigned attempt);

  const std::string name_;
  const std::uint32_t id_;
  std::chrono::nanoseconds first_, longest_, give_up_after_;
  BatchReader::Limits limits_;
  std::size_t at_once_;   // events; fewer than the limit while the destination is too slow for so many
  unsigned in_time_ = 0;  // deliveries of so many, one after another
  std::unique_ptr<Destination> destination_;
  Spool& spool_;
  Letters& letters_;
  const Holder holder_;
  Problems& problems_;
  // Of the batch in hand, without what was counted before, since it is sent again to a destination that lost it.
  std::uint64_t answered_ = 0;   // events that it took
  std::uint64_t bytes_out_ = 0;  // of those
  std::uint64_t set_aside_ = 0;
  std::uint64_t counted_ = 0;  // records up to this one were counted
  bool counts(const DeliveryEvent& e) const { return e.number.number > counted_; }
  std::uint64_t erase(std::vector<DeliveryEvent>& events,
                      const std::set<std::pair<std::uint64_t, std::uint32_t>>& which) const;
  StoredCount stored_;
  std::uint64_t in_hand_ = 0;  // its last record
  // What of the batch in hand stands behind the part that is offered; the innermost part's rest last.
  std::vector<std::span<const DeliveryEvent>> behind_;
  // Behind the part in hand, and taken in a trial.
  std::set<std::pair<std::uint64_t, std::uint32_t>> taken_ahead_;
  // State of the spool: the newest record of which the destination accepted something.
  std::string accepted_key() const;
  const StateChange* accepted_since() const;
  CounterId counter(const char* what) { return spool_.counter_id(counter_of_destination(id_, what)); }
  std::vector<CounterChange> counts_;
  std::vector<StateChange> progress_;
  // Accepted, not yet durable there: reading goes on behind it, the cursor stays.
  struct Deferred {
    std::uint64_t number = 0;
    Changes changes;
  };
  std::vector<Deferred> deferred_;
  bool durable_ = true;                 // of the batch in hand
  bool start_over_ = false;             // what was deferred may be gone there: back to the cursor
  std::optional<LogNumber> rewind_to_;  // the destination lost what it had behind this
  // After that: how far it has again what it lost, until it has all.
  std::optional<std::uint64_t> sent_again_;
  std::optional<std::uint64_t> had_before_damage_;  // up to this record it has some of which the spool lacks
  std::map<std::uint64_t, std::uint64_t> gaps_;  // meanwhile: records that the spool does not have any more
  std::mt19937_64 random_{std::random_device{}()};
  Histogram latency_;
  std::atomic<bool> stopping_{false};
  mutable Mutex mutex_;
  Status status_ GUARDED_BY(mutex_);
  bool now_ GUARDED_BY(mutex_) = false;  // the next try is asked for
  Signal stop_;
  std::thread thread_;
};

}  // namespace dingle
