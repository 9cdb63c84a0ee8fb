#include "spool/acknowledged.h"

namespace dingle {

void Acknowledged::written(std::uint64_t number, Changes changes,
                           std::vector<std::pair<std::uint32_t, std::uint32_t>> destinations) {
  pending_.push_back({number, std::move(changes), std::move(destinations)});
}

const Snapshot& Acknowledged::up_to(std::uint64_t needed, std::vector<CounterName> names) {
  for (; !pending_.empty() && pending_.front().number < needed; pending_.pop_front()) {
    const Pending& record = pending_.front();
    for (const StateChange& c : record.changes.state) c.apply(snapshot_.state);
    for (const CounterChange& c : record.changes.counters) snapshot_.counters[c.id] += c.change;
    for (auto [id, events] : record.destinations) {
      Cursor& cursor = snapshot_.cursors[id];
      cursor.passed += events;
      cursor.appended = cursor.passed;
    }
  }
  snapshot_.names = std::move(names);
  return snapshot_;
}

}  // namespace dingle
