#include <algorithm>

#include "agent/sources/source.h"

namespace dingle {

const std::vector<std::string> kSourceCounters{
    "lines",       "bytes",      "empty",        "joined",    "events",   "leftovers",       "left",
    "cut",         "cut_bytes",  "invalid_utf8", "truncated", "replaced", "lost_queue_full", "lost_too_fast",
    "set_apart",   "copies",     "hole_bytes",   "requests",  "repeated", "refused",         "turned_away",
    "closed_idle", "unbalanced", "vanished"};

SourceCounters::SourceCounters(Spool& spool, const std::string& source) : spool_(spool) {
  for (const std::string& what : kSourceCounters)
    ids_.push_back(spool.counter_id("source/" + source + "/" + what));
}

CounterId SourceCounters::id(std::string_view what) const {
  const auto at = std::find(kSourceCounters.begin(), kSourceCounters.end(), what);
  return ids_.at(static_cast<std::size_t>(at - kSourceCounters.begin()));
}

}  // namespace dingle
