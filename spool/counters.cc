#include "spool/counters.h"

#include <algorithm>

namespace dingle {

CounterId Counters::id(const std::string& name) {
  const auto [it, added] = ids_.try_emplace(name, next_);
  if (added) {
    counters_[next_].name = name;
    news_.push_back({next_++, name});
  }
  return it->second;
}

// One without a name is of a record whose note was damaged: what it counts stays unknown, unless somebody kept it.
void Counters::add(const CounterChange& c) {
  counters_[c.id].value += c.change;
  next_ = std::max(next_, c.id + 1);
}

std::int64_t Counters::value(const std::string& name) const {
  const auto it = ids_.find(name);
  return it == ids_.end() ? 0 : counters_.at(it->second).value;
}

std::map<std::string, std::int64_t> Counters::all() const {
  std::map<std::string, std::int64_t> found;
  for (const auto& [name, id] : ids_)
    if (const std::int64_t value = counters_.at(id).value; value != 0)
      found.emplace_hint(found.end(), name, value);
  return found;
}

std::size_t Counters::name(const std::vector<CounterName>& kept) {
  std::size_t named = 0;
  for (const auto& [id, name] : kept) {
    const auto it = counters_.find(id);
    if (name.empty() || it == counters_.end() || !it->second.name.empty() ||
        !ids_.try_emplace(name, id).second)
      continue;
    it->second.name = name;
    news_.push_back({id, name});
    ++named;
  }
  return named;
}

std::vector<CounterName> Counters::names() const {
  std::vector<CounterName> all;
  for (const auto& [name, id] : ids_) all.push_back({id, name});
  return all;
}

void Counters::forget(const std::string& prefix, const std::string& kept) {
  for (auto it = ids_.lower_bound(prefix); it != ids_.end() && it->first.starts_with(prefix);) {
    if (!kept.empty() && it->first.starts_with(kept)) {
      ++it;
      continue;
    }
    news_.push_back({it->second, ""});
    counters_.erase(it->second);
    it = ids_.erase(it);
  }
}

void Counters::apply(const std::vector<CounterName>& names) {
  for (const auto& [id, name] : names) {
    next_ = std::max(next_, id + 1);
    Counter& counter = counters_[id];
    if (!counter.name.empty()) ids_.erase(counter.name);
    if (name.empty()) {
      counters_.erase(id);
      continue;
    }
    counter.name = name;
    ids_[name] = id;
  }
}

void Counters::restore(std::vector<CounterName> names, const std::map<CounterId, std::int64_t>& values) {
  *this = {};
  apply(names);
  for (const auto& [id, value] : values) add({id, value});
}

void Counters::write(Snapshot& snapshot) const {
  snapshot.names = names();
  for (const auto& [id, counter] : counters_)
    if (counter.value != 0) snapshot.counters[id] = counter.value;
}

}  // namespace dingle
