// Where events go. The delivery (engine/delivery.h) reads the spool, calls `deliver`, and acts on the
// outcomes: it tries again, sets aside, and moves the cursor.
#pragma once

#include <chrono>
#include <cstdint>
#include <optional>
#include <span>
#include <string>
#include <utility>
#include <vector>

#include "agent/configuration.h"
#include "agent/namer.h"
#include "spool/events.h"
#include "spool/spool.h"

namespace dingle {

struct DeliveryEvent {
  LogNumber number;
  SpooledEvent event;
};

// What became of one event.
struct Outcome {
  // accepted: durable there. retry: not now. refused: never; it is set aside.
  enum class Form : std::uint8_t { accepted, retry, refused } form = Form::accepted;
  std::string reason;  // for retry and refused, in the destination's own words
};

struct Delivery {
  // One for each event, or a single one for all of them.
  std::vector<Outcome> outcomes{Outcome{}};
  // The destination asked to be left alone that long.
  std::optional<std::chrono::nanoseconds> retry_after = {};
  // It judged the events rather than being down or busy: what it keeps refusing is given up some time.
  bool judged = false;
  // The outcome speaks of the batch as a whole: smaller ones may show which event is to blame.
  bool separable = false;
  // It was reached, and did not answer in time: fewer events at once may do.
  bool too_slow = false;
  // What is to be tried again need not wait: nothing is wrong with it.
  bool at_once = false;
  // The newest record of which the destination holds something; told after it was connected, before anything
  // is delivered. If it is older than what was accepted once, the destination was restored from a backup.
  std::optional<LogNumber> held = {};
  // How many events of this sender it has stored by now, and still has or removed as it was told to: as its own
  // transactions counted. Nothing if it cannot tell.
  std::optional<std::uint64_t> stored = {};
  // False: accepted, but durable only with a later delivery, or after `flush`. Only for destinations that
  // recognise what is sent again, and only if `may_defer` was set.
  bool durable = true;
  // Counted with the destination once the events are through ("replaced", 3).
  std::vector<std::pair<const char*, std::uint64_t>> counts = {};

  const Outcome& of(std::size_t event) const { return outcomes.size() == 1 ? outcomes[0] : outcomes[event]; }
  static Delivery retry(std::string reason, bool too_slow = false) {
    Delivery d{{{Outcome::Form::retry, std::move(reason)}}};
    d.too_slow = too_slow;
    return d;
  }
};

// Called by one thread, but for `cancel`.
class Destination {
 public:
  virtual ~Destination() = default;
  // Events in the order of the log; whole records unless some were refused or are tried again. Views are
  // valid during the call. Accepted means durable. An event that it refuses must not count as passed in
  // whatever progress it keeps before `deliver` returned: the letter is written then.
  virtual Delivery deliver(std::span<const DeliveryEvent> events) = 0;
  // Makes all that was accepted durable. False: it could not; what was not durable is sent again.
  virtual bool flush() { return true; }
  // Set before `deliver`: more is waiting, so that it need not be durable yet.
  bool may_defer = false;
  // Whether to read the next batch while one is delivered: worth its memory if others do the work.
  virtual bool reads_ahead() const { return false; }
  // For housekeeping: called every second or so while there is nothing to deliver, every ten while there is. What is done
  // then is counted with the destination, and logged.
  struct Housekeeping {
    std::vector<std::pair<const char*, std::uint64_t>> counts;
    std::vector<std::string> said;
    // As of now, if it was looked at: what its files were written with, and what is known to have become of that.
    std::optional<std::pair<std::uint64_t, std::uint64_t>> kept;
    std::optional<std::string> missing;    // what should be there and is not; ""
    std::optional<std::string> soon_gone;  // what it will remove soon, though it just came; ""
  };
  virtual Housekeeping idle() { return {}; }
  // Asks a `deliver` in progress to come to an end soon, with any outcome. Called from another thread.
  virtual void cancel() {}
};

struct DestinationMaking {
  const DestinationSettings& settings;
  std::uint32_t id;
  Spool::Identity spool;
  std::string data;  // the data folder
};

}  // namespace dingle
