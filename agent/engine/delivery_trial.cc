// Of events that are always answered with no: whether others are taken, which tells that these are to blame.
#include <chrono>
#include <optional>
#include <set>

#include "agent/engine/delivery.h"
#include "store/index_file.h"

namespace dingle {

using namespace std::chrono_literals;

// Whether the destination takes an event behind the part in hand, which is of this batch or of a later one.
bool DeliveryThread::takes(const DeliveryEvent& event, bool of_batch) {
  const Delivery delivery = destination_->deliver({&event, 1});
  if (delivery.held) compare(delivery);
  if (rewind_to_ || start_over_) return false;
  if (delivery.of(0).form != Outcome::Form::accepted || !delivery.durable) return false;
  const std::uint64_t answered = answered_;
  accepted({&event, 1}, delivery);
  if (!of_batch) answered_ = answered;  // it counts with its own batch
  taken_ahead_.insert({event.number.number, event.event.ordinal});
  return true;
}

// All of these were answered with no for too long: is that because of what they are? Leaves a letter of the one before
// only if the next one of its lane was taken.
bool DeliveryThread::takes_others(const Turned& turned, unsigned attempts) {
  constexpr int kMostRecords = 64;  // that are looked through
  std::set<unsigned> lanes;         // that wait for what stands before
  for (const DeliveryEvent& e : turned.events) lanes.insert(lane_of(e.event.stream));
  const std::set<unsigned> own_lanes = lanes;
  destination_->may_defer = false;
  std::optional<DeliveryEvent> own;  // the first of those lanes
  for (auto rest = behind_.rbegin(); rest != behind_.rend(); ++rest)
    for (const DeliveryEvent& e : *rest) {
      if (taken_ahead_.count({e.number.number, e.event.ordinal})) continue;
      if (lanes.insert(lane_of(e.event.stream)).second) return takes(e, true);
      if (!own && own_lanes.count(lane_of(e.event.stream))) own = e;
    }
  const bool own_of_batch = own.has_value();
  Spool::Read record, of_own;  // who owns what `own` points into
  EventDecoder decoder, decoder_of_own;
  std::uint64_t after = in_hand_;
  for (int i = 0; i < kMostRecords && !stopping_; ++i) {
    if (!spool_.read(id_, after, 0ms, record)) break;
    after = record.number.number;
    std::vector<SpooledEvent> events;
    decoder.reuse();
    if (!decoder.decode(record.batch.events, id_, events)) continue;
    bool keeps = false;
    for (const SpooledEvent& e : events) {
      if (taken_ahead_.count({record.number.number, e.ordinal})) continue;
      if (!lanes.count(lane_of(e.stream))) return takes({record.number, e}, false);
      keeps = keeps || (!own && own_lanes.count(lane_of(e.stream)));
    }
    if (!keeps) continue;
    if (!spool_.read(id_, after - 1, 0ms, of_own) || of_own.number != record.number) continue;
    std::vector<SpooledEvent> kept;
    if (!decoder_of_own.decode(of_own.batch.events, id_, kept)) continue;
    for (const SpooledEvent& e : kept)
      if (!own && own_lanes.count(lane_of(e.stream))) own = DeliveryEvent{of_own.number, e};
  }
  if (!own || turned.events.size() != 1 || stopping_) return false;
  // Only its own lane waits behind it.
  if (!set_aside(turned, attempts)) return false;
  const bool taken = takes(*own, own_of_batch);
  set_aside_ -= counts(turned.events[0]);  // counted when it is given up for good
  if (!taken) withdraw(turned.events[0]);
  return taken;
}

// The letter of an event that comes again after all. Waits as long as it cannot be removed; when stopping before that, it stays,
// and the event is not tried again after the start.
void DeliveryThread::withdraw(const DeliveryEvent& event) {
  std::string problem;
  while (!letters_.withdraw(id_, event.number, event.event.ordinal, &problem)) {
    failing(problem, 1s);
    if (wait(1s)) continue;
    return;
  }
}

}  // namespace dingle
