#include "spool/state.h"

namespace dingle {

std::map<std::string, std::string> State::with_prefix(std::string_view prefix) const {
  std::map<std::string, std::string> found;
  values_.each_with_prefix(prefix, [&](std::string_view key, std::string_view value) {
    found.emplace_hint(found.end(), key, value);
  });
  return found;
}

void State::apply(const Changes& changes) {
  for (const StateChange& s : changes.state) s.apply(values_);
  counters_.apply(changes.names);
  for (const CounterChange& c : changes.counters) counters_.add(c);
}

void State::change(Changes changes) {
  apply(changes);
  for (StateChange& c : changes.state) unsaved_.state.push_back(std::move(c));
  for (const CounterChange& c : changes.counters) unsaved_.counters.push_back(c);
}

Changes State::owed(const Changes& more) const {
  Changes all = unsaved_;
  all.state.insert(all.state.end(), more.state.begin(), more.state.end());
  all.counters.insert(all.counters.end(), more.counters.begin(), more.counters.end());
  all.names = counters_.news();
  return all;
}

void State::noted() {
  counters_.told();
  unsaved_ = {};
}

void State::restore(Snapshot snapshot) {
  values_ = std::move(snapshot.state);
  counters_.restore(std::move(snapshot.names), snapshot.counters);
}

void State::write(Snapshot& snapshot) const {
  snapshot.state = values_;
  counters_.write(snapshot);
}

}  // namespace dingle
