#include "spool/queues.h"

#include <algorithm>

#include "core/bytes.h"

namespace dingle {
namespace {

constexpr std::size_t kMostEntries = 20'000;  // of batches that all have passed

std::string shed_key(std::uint32_t destination) { return "shed/" + std::to_string(destination); }

// Of ascending numbers, the first behind one.
template <class Numbered>
auto behind(Numbered& all, std::uint64_t number) {
  return std::upper_bound(all.begin(), all.end(), number,
                          [](std::uint64_t n, const auto& one) { return n < one.number; });
}

}  // namespace

const Queues::Entry& Queues::entry(std::uint64_t number) const { return *(behind(entries_, number) - 1); }

const Queues::List& Queues::list(std::uint32_t destination) const {
  static const List none;
  const auto it = lists_.find(destination);
  return it == lists_.end() ? none : it->second;
}

void Queues::add(const Entry& entry, const Shares& shares) {
  if (shares.empty()) return;
  for (auto [id, events] : shares) lists_[id].push_back({entry.number, events});
  entries_.push_back(entry);
}

void Queues::append(Entry entry, const Shares& shares) {
  for (auto [id, events] : shares) {
    Destination& d = destinations_[id];
    d.cursor.appended += events;
    d.bytes += entry.place.size;
  }
  add(entry, shares);
}

void Queues::found(Entry entry, const Shares& shares) { add(entry, shares); }

void Queues::move(std::uint64_t number, const Log::Place& place) {
  const auto it = behind(entries_, number);
  if (it != entries_.begin() && (it - 1)->number == number) (it - 1)->place = place;
}

void Queues::forget(std::uint64_t number) {
  while (!entries_.empty() && entries_.front().number <= number) entries_.pop_front();
  cut_lists();
}

void Queues::forget_many(std::uint64_t needed) {
  if (entries_.size() <= kMostEntries || entries_.front().number >= needed) return;
  while (entries_.size() > kMostEntries && entries_.front().number < needed) entries_.pop_front();
  cut_lists();
}

// To the records that are there.
void Queues::cut_lists() {
  const std::uint64_t first = entries_.empty() ? UINT64_MAX : entries_.front().number;
  for (auto& [id, list] : lists_)
    while (!list.empty() && list.front().number < first) list.pop_front();
}

void Queues::end(std::uint32_t destination) {
  destinations_.erase(destination);
  lists_.erase(destination);
}

void Queues::begin(std::uint32_t destination, std::uint64_t last_record) {
  auto [it, added] = destinations_.try_emplace(destination);
  if (added) it->second.cursor.number = last_record;
}

void Queues::keep(const std::vector<std::uint32_t>& ids) {
  const auto gone = [&](const auto& d) { return std::find(ids.begin(), ids.end(), d.first) == ids.end(); };
  std::erase_if(destinations_, gone);
  std::erase_if(lists_, gone);
}

bool Queues::empty(std::uint32_t destination) const {
  auto it = destinations_.find(destination);
  return it == destinations_.end() || it->second.cursor.appended <= it->second.cursor.passed;
}

std::uint64_t Queues::cursor(std::uint32_t destination) const {
  auto it = destinations_.find(destination);
  return it == destinations_.end() ? 0 : it->second.cursor.number;
}

Queues::Waiting Queues::waiting(std::uint32_t id, const Destination& d) const {
  Waiting w;
  w.appended = d.cursor.appended;
  w.events = d.cursor.appended - d.cursor.passed;
  w.bytes = d.bytes;
  if (w.events == 0) return w;
  const List& records = list(id);
  if (const auto first = behind(records, d.cursor.number); first != records.end())
    w.oldest = entry(first->number).appended_at;
  return w;
}

Queues::Waiting Queues::waiting(std::uint32_t destination) const {
  auto it = destinations_.find(destination);
  return it == destinations_.end() ? Waiting{} : waiting(destination, it->second);
}

std::map<std::uint32_t, Queues::Waiting> Queues::waiting() const {
  std::map<std::uint32_t, Waiting> all;
  for (const auto& [id, d] : destinations_) all[id] = waiting(id, d);
  return all;
}

Cursors Queues::cursors() const {
  Cursors all;
  for (const auto& [id, d] : destinations_) all[id] = d.cursor;
  return all;
}

std::uint64_t Queues::first_needed(std::uint64_t next) const {
  std::uint64_t needed = next;
  for (const auto& [id, d] : destinations_)
    if (d.cursor.appended > d.cursor.passed) needed = std::min(needed, d.cursor.number + 1);
  return needed;
}

const Queues::Entry* Queues::next(std::uint32_t destination, std::uint64_t after, std::uint64_t visible,
                                  std::uint32_t* events) const {
  const List& records = list(destination);
  const auto first = behind(records, after);
  if (first == records.end() || first->number > visible) return nullptr;
  *events = first->events;
  return &entry(first->number);
}

void Queues::in_hand(std::uint32_t destination, std::uint64_t number) {
  if (auto d = destinations_.find(destination); d != destinations_.end())
    d->second.in_hand = std::max(d->second.in_hand, number);
}

std::vector<StateChange> Queues::passed(std::uint32_t destination, std::uint64_t number) {
  Destination& d = destinations_[destination];
  const List& records = list(destination);
  for (auto r = behind(records, d.cursor.number); r != records.end() && r->number <= number; ++r) {
    d.cursor.passed += r->events;
    d.bytes -= std::min<std::uint64_t>(d.bytes, entry(r->number).place.size);
  }
  d.cursor.number = std::max(d.cursor.number, number);
  cursors_changed_ = true;
  if (d.shed.empty() || d.shed.back().second > d.cursor.number) return {};
  d.shed.clear();
  return {{shed_key(destination), "", true}};
}

// ---- giving up

Queues::Shedding Queues::to_shed(std::uint32_t destination, std::uint64_t most_bytes,
                                 std::int64_t oldest) const {
  Shedding shedding;
  auto found = destinations_.find(destination);
  if (found == destinations_.end()) return shedding;
  const Destination& d = found->second;
  const std::uint64_t in_hand = std::max(d.cursor.number, d.in_hand);
  std::uint64_t bytes = d.bytes, first = 0, last = 0;
  const List& records = list(destination);
  for (auto r = behind(records, in_hand); r != records.end(); ++r) {
    const Entry& e = entry(r->number);
    if (bytes <= most_bytes && e.appended_at >= oldest) break;
    shedding.events += r->events;
    bytes -= std::min<std::uint64_t>(bytes, e.place.size);
    if (first == 0) first = e.number;
    last = e.number;
  }
  if (shedding.events == 0) return shedding;
  shedding.ranges = d.shed;
  if (!shedding.ranges.empty() && shedding.ranges.back().second >= in_hand)
    shedding.ranges.back().second = last;
  else
    shedding.ranges.emplace_back(first, last);
  shedding.state = {shed_key(destination), "", false};
  ByteWriter w(shedding.state.value);
  for (auto [from, to] : shedding.ranges) {
    w.varint(from);
    w.varint(to);
  }
  return shedding;
}

void Queues::shed(std::uint32_t destination, Shedding shedding) {
  Destination& d = destinations_[destination];
  d.shed = std::move(shedding.ranges);
  apply_shed(destination, d);
}

// Takes the destination out of the records that it gave up, and counts them as passed.
void Queues::apply_shed(std::uint32_t destination, Destination& d) {
  List& records = lists_[destination];
  for (auto [from, to] : d.shed) {
    const auto begin = behind(records, std::max(from == 0 ? 0 : from - 1, d.cursor.number));
    const auto end = behind(records, to);
    if (begin >= end) continue;
    for (auto r = begin; r != end; ++r) {
      d.cursor.passed += r->events;
      d.bytes -= std::min<std::uint64_t>(d.bytes, entry(r->number).place.size);
    }
    records.erase(begin, end);
  }
  cursors_changed_ = true;
}

// ---- opening

void Queues::restore(const Cursors& cursors) {
  for (const auto& [id, cursor] : cursors) destinations_[id].cursor = cursor;
}

void Queues::note(const Cursors& cursors) {
  for (const auto& [id, cursor] : cursors) {
    destinations_[id].cursor.number = cursor.number;
    destinations_[id].cursor.passed = cursor.passed;
  }
}

void Queues::note_appended(std::uint32_t destination, std::uint64_t events) {
  destinations_[destination].cursor.appended += events;
}

std::map<std::uint32_t, std::uint64_t> Queues::recovered(const State& state, bool damaged) {
  for (auto& [id, d] : destinations_) {
    const List& records = list(id);
    for (auto r = behind(records, d.cursor.number); r != records.end(); ++r)
      d.bytes += entry(r->number).place.size;
  }
  for (auto& [id, d] : destinations_) {
    const auto ranges = state.value(shed_key(id));
    if (!ranges) continue;
    ByteReader r(*ranges);
    while (!r.at_end() && r.ok()) {
      const std::uint64_t from = r.varint();
      d.shed.emplace_back(from, r.varint());
    }
    if (!r.ok()) d.shed.clear();
    const std::uint64_t passed = d.cursor.passed;
    apply_shed(id, d);
    d.cursor.passed = passed;  // counted by what is really there
  }
  // Events destroyed by damage wait no longer: what was appended is passed but for what is really there.
  std::map<std::uint32_t, std::uint64_t> destroyed;
  for (auto& [id, d] : destinations_) {
    std::uint64_t there = 0;
    const List& records = list(id);
    for (auto r = behind(records, d.cursor.number); r != records.end(); ++r) there += r->events;
    // One that was passed before it was destroyed was appended all the same, though its record does not say so any more.
    if (damaged) d.cursor.appended = std::max(d.cursor.appended, d.cursor.passed + there);
    const std::uint64_t passed = d.cursor.appended - std::min(there, d.cursor.appended);
    if (damaged && passed > d.cursor.passed) destroyed[id] = passed - d.cursor.passed;
    d.cursor.passed = passed;
  }
  return destroyed;
}

}  // namespace dingle
