// Where events go. The delivery (engine/delivery.h) reads the spool, calls `deliver`, and acts on the
// outcomes: it tries again, sets aside, and moves the cursor.
#pragma once

#include <chrono>
#include <cstdint>
#include <optional>
#include <span>
#include <string>
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
  enum class Form : std::uint8_t { accepted, retry, refused } form = Form::accepted;
  std::string reason;  // for retry and refused, in the destination's own words
};

struct Delivery {
  // One for each event, or a single one for all of them.
  std::vector<Outcome> outcomes{Outcome{}};
  // The destination asked to be left alone that long.
  std::optional<std::chrono::nanoseconds> retry_after;
  // All records up to this one are durable there; nothing: those of this batch are, if accepted.
  std::optional<LogNumber> committed_through;

  const Outcome& of(std::size_t event) const { return outcomes.size() == 1 ? outcomes[0] : outcomes[event]; }
  static Delivery retry(std::string reason) {
    return {{{Outcome::Form::retry, std::move(reason)}}, std::nullopt, std::nullopt};
  }
};

// Called by one thread.
class Destination {
 public:
  virtual ~Destination() = default;
  // Events in the order of the log; whole records. Views are valid during the call. Accepted means durable.
  virtual Delivery deliver(std::span<const DeliveryEvent> events) = 0;
  // For housekeeping: called every second or so while there is nothing to deliver, every ten while there is.
  virtual void idle() {}
};

struct DestinationMaking {
  const DestinationSettings& settings;
  std::uint32_t id;
  Spool::Identity spool;
  std::string data;  // the data folder
};

}  // namespace dingle
