#include "spool/state.h"

namespace dingle {

std::optional<std::string> State::value(const std::string& key) const {
  auto it = values_.find(key);
  return it == values_.end() ? std::nullopt : std::optional(it->second);
}

std::map<std::string, std::string> State::with_prefix(const std::string& prefix) const {
  std::map<std::string, std::string> found;
  for (auto it = values_.lower_bound(prefix); it != values_.end() && it->first.starts_with(prefix); ++it)
    found.insert(*it);
  return found;
}

void State::apply(const Changes& changes) {
  for (const StateChange& s : changes.state) {
    if (s.removed)
      values_.erase(s.key);
    else
      values_[s.key] = s.value;
  }
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
