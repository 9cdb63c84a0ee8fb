// Reads one destination's batches out of the spool, if wanted the next one while the last is on its way.
//
//   BatchReader reader(spool, id, {.events = 8192, .bytes = 8u << 20, .age = 200ms}, stopping);
//   while (const BatchReader::Read* batch = reader.next(after)) after = deliver(*batch);
//
// Used by one thread; the one that reads ahead is its own. Memory: that of a batch, decoded, which is kept
// from batch to batch; twice that if it reads ahead.
#pragma once

#include <atomic>
#include <chrono>
#include <cstdint>
#include <future>
#include <optional>
#include <vector>

#include "agent/destinations/destination.h"

namespace dingle {

class BatchReader {
 public:
  struct Limits {
    std::size_t events = 0, bytes = 0;  // records are read whole: a single one may have more
    std::chrono::nanoseconds age{};     // how long a few events wait for company
    bool ahead = false;                 // reads the next batch while a full one is delivered
  };
  // Whole records, and their events for the destination. The events' views point into the records.
  struct Read {
    std::vector<Spool::Read> records;
    std::vector<DeliveryEvent> events;
    std::uint64_t damaged = 0;  // events that cannot be read any more
    std::uint64_t last() const { return records.back().number.number; }
  };

  // Returns soon, with what there is, once `stopping` is set and the spool's readers were woken.
  BatchReader(Spool& spool, std::uint32_t destination, Limits limits, const std::atomic<bool>& stopping);
  ~BatchReader() { discard(); }
  // What comes behind the record `after`: waits up to half a second for a first record. Valid until the next
  // call; null if none came.
  Read* next(std::uint64_t after);
  void forget();  // frees the memory that is kept; ends what `next` answered

 private:
  struct Slot {
    Read read;
    std::uint64_t after = 0;  // what it was asked for
    std::size_t events = 0, bytes = 0, decoded = 0;
    bool full = false;
    std::optional<Spool::Read> over;  // read, but too much for this batch
    // Kept from batch to batch: to get memory anew costs more than to fill it.
    EventDecoder decoder;
    std::vector<SpooledEvent> room;
    std::vector<std::unique_ptr<std::string>> spare;
  };
  void begin(Slot& slot, std::uint64_t after, std::optional<Spool::Read> first);
  void add(Slot& slot, Spool::Read record) const;
  void fill(Slot& slot, bool wait);
  void discard();

  Spool& spool_;
  const std::uint32_t destination_;
  const Limits limits_;
  const std::atomic<bool>& stopping_;
  Slot now_, ahead_;
  std::future<void> reading_;  // valid: `ahead_` belongs to it
};

}  // namespace dingle
