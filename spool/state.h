// A spool's state: what is kept by keys, and the counters; and which changes of them are not in the log yet. No lock of its
// own.
#pragma once

#include "core/packed_map.h"
#include "spool/counters.h"
#include "spool/format.h"

namespace dingle {

class State {
 public:
  const PackedMap& values() const { return values_; }
  std::optional<std::string> value(std::string_view key) const { return values_.value(key); }
  std::map<std::string, std::string> with_prefix(std::string_view prefix) const;
  Counters& counters() { return counters_; }
  const Counters& counters() const { return counters_; }

  // What the log has.
  void apply(const Changes& changes);
  // What goes with the next note.
  void change(Changes changes);
  bool owes_note() const {
    return !unsaved_.counters.empty() || !unsaved_.state.empty() || !counters_.news().empty();
  }
  // What a note says beside `more`: all that is owed. It is owed until the note is written.
  Changes owed(const Changes& more) const;
  void noted();
  // A snapshot is in the log, durably: a note would count what is owed once more.
  void stands_in_snapshot() { unsaved_.counters.clear(); }

  void restore(Snapshot snapshot);
  void write(Snapshot& snapshot) const;

  // Numbers that no record has, since an opening cut off those that had them; goes with the next snapshot. Those before `first` are
  // forgotten.
  void note_cut(const NumberRange& numbers, std::uint64_t first);

 private:
  PackedMap values_;
  Counters counters_;
  Changes unsaved_;  // applied already
};

// How many of these are lost: not cut off, and not of segments that were removed as nobody needed what stands before record `needed`.
std::uint64_t lost_records(const std::vector<MissingRecords>& missing, const PackedMap& state,
                           std::uint64_t needed);

}  // namespace dingle
