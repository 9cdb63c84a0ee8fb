// Which records wait for which destination: an index of the batches in the log, and how far each destination has them.
// No lock of its own.
#pragma once

#include <cstdint>
#include <deque>
#include <map>
#include <string>
#include <utility>
#include <vector>

#include "spool/log.h"
#include "spool/state.h"

namespace dingle {

class Queues {
 public:
  // A batch in the log.
  struct Entry {
    std::uint64_t number = 0, epoch = 0;
    Log::Place place;
    std::int64_t appended_at = 0;
  };
  using Shares = std::vector<std::pair<std::uint32_t, std::uint32_t>>;  // id of a destination, events for it
  struct Waiting {
    std::uint64_t appended = 0, events = 0, bytes = 0;
    std::int64_t oldest = 0;  // when the first of them was appended; 0: none waits
  };

  // ---- records ----
  // A batch that was appended: its events wait, also where no destination gets any of them.
  void append(Entry entry, const Shares& shares);
  void move(std::uint64_t number, const Log::Place& place);
  // Those up to this one are not in the log any more.
  void forget(std::uint64_t number);
  // Of those before `needed` the newest are kept, for a destination that lost them.
  void forget_many(std::uint64_t needed);
  std::uint64_t first(std::uint64_t next) const { return entries_.empty() ? next : entries_.front().number; }

  // ---- destinations ----
  // One that begins behind this record, if it is not known.
  void begin(std::uint32_t destination, std::uint64_t last_record);
  void end(std::uint32_t destination);
  void keep(const std::vector<std::uint32_t>& ids);
  bool empty(std::uint32_t destination) const;
  std::uint64_t cursor(std::uint32_t destination) const;  // 0 if it is not known
  Waiting waiting(std::uint32_t destination) const;
  std::map<std::uint32_t, Waiting> waiting() const;
  Cursors cursors() const;
  bool cursors_changed() const { return cursors_changed_; }
  void cursors_noted() { cursors_changed_ = false; }
  // The first record that some destination has not passed; `next` if all have all.
  std::uint64_t first_needed(std::uint64_t next) const;

  // The first record behind `after`, and not behind `visible`, with events for the destination. Holds until something changes.
  // Costs the same however much waits for others.
  const Entry* next(std::uint32_t destination, std::uint64_t after, std::uint64_t visible,
                    std::uint32_t* events) const;
  void in_hand(std::uint32_t destination, std::uint64_t number);
  // Answers a change of state, if there is one: ranges that were given up and are behind it now.
  std::vector<StateChange> passed(std::uint32_t destination, std::uint64_t number);

  // ---- giving up the oldest that waits (state `shed/ID`: n times { varint first, varint last }) ----
  struct Shedding {
    std::uint64_t events = 0;
    StateChange state;
    std::vector<std::pair<std::uint64_t, std::uint64_t>> ranges;
  };
  // Which of those that are not in hand, until at most `most_bytes` wait, and none from before `oldest`.
  Shedding to_shed(std::uint32_t destination, std::uint64_t most_bytes, std::int64_t oldest) const;
  void shed(std::uint32_t destination, Shedding shedding);

  // ---- opening ----
  void restore(const Cursors& cursors);
  void note(const Cursors& cursors);  // of a note: numbers and what was passed
  void note_appended(std::uint32_t destination, std::uint64_t events);
  void found(Entry entry, const Shares& shares);
  // All records are found: what waits is what is really there. Answers by destination how many events were destroyed, if
  // records were.
  std::map<std::uint32_t, std::uint64_t> recovered(const State& state, bool damaged);

 private:
  struct Share {  // of a record
    std::uint64_t number = 0;
    std::uint32_t events = 0;
  };
  using List = std::deque<Share>;  // ascending by number
  struct Destination {
    Cursor cursor;
    std::uint64_t bytes = 0;    // of records that wait for it
    std::uint64_t in_hand = 0;  // up to this record they were read
    std::vector<std::pair<std::uint64_t, std::uint64_t>>
        shed;  // ranges of records given up, behind the cursor
  };
  Waiting waiting(std::uint32_t id, const Destination& d) const;
  void add(const Entry& entry, const Shares& shares);
  void cut_lists();
  const Entry& entry(std::uint64_t number) const;  // which is there
  const List& list(std::uint32_t destination) const;
  void apply_shed(std::uint32_t destination, Destination& d);

  std::deque<Entry> entries_;  // of all segments, by number; those with events for somebody
  // By destination: which of them have events for it, also those that it has passed.
  std::map<std::uint32_t, List> lists_;
  std::map<std::uint32_t, Destination> destinations_;
  bool cursors_changed_ = false;
};

}  // namespace dingle
