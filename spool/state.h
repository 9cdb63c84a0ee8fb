// A spool's state: what is kept by keys, and the counters; and which changes of them are not in the log yet. No lock of its
// own.
#pragma once

#include <map>
#include <optional>
#include <string>

#include "spool/counters.h"
#include "spool/format.h"

namespace dingle {

class State {
 public:
  std::optional<std::string> value(const std::string& key) const;
  std::map<std::string, std::string> with_prefix(const std::string& prefix) const;
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

 private:
  std::map<std::string, std::string> values_;
  Counters counters_;
  Changes unsaved_;  // applied already
};

}  // namespace dingle
