#include "spool/state.h"

#include <algorithm>
#include <charconv>

#include "core/bytes.h"

namespace dingle {
namespace {

const std::string kCut = "cut/";

std::uint64_t number_of(std::string_view text) {
  std::uint64_t n = 0;
  std::from_chars(text.data(), text.data() + text.size(), n);
  return n;
}

}  // namespace

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

void State::note_cut(const NumberRange& numbers, std::uint64_t first) {
  for (const auto& [key, last] : with_prefix(kCut))
    if (ByteReader(last).varint() < first) values_.erase(key);
  if (numbers.first > numbers.last) return;
  std::string last;
  ByteWriter(last).varint(numbers.last);
  values_.put(kCut + std::to_string(numbers.first), last);
}

std::uint64_t lost_records(const std::vector<MissingRecords>& missing, const PackedMap& state,
                           std::uint64_t needed) {
  std::uint64_t n = 0;
  for (const auto& [numbers, segments] : missing) {
    // Names of files that are removed together may go in any order when the power fails.
    if (segments && numbers.last < needed) continue;
    n += numbers.count();
    state.each_with_prefix(kCut, [&, numbers = numbers](std::string_view key, std::string_view value) {
      const NumberRange cut{number_of(key.substr(kCut.size())), ByteReader(value).varint()};
      const std::uint64_t from = std::max(numbers.first, cut.first), to = std::min(numbers.last, cut.last);
      if (from <= to) n -= to - from + 1;
    });
  }
  return n;
}

}  // namespace dingle
