#include "spool/queues.h"

#include <algorithm>

#include "core/bytes.h"

namespace dingle {
namespace {

constexpr std::size_t kMostEntries = 20'000;  // of batches that all have passed

std::string shed_key(std::uint32_t destination) { return "shed/" + std::to_string(destination); }

}  // namespace

std::deque<Queues::Entry>::const_iterator Queues::behind(std::uint64_t number) const {
  return std::upper_bound(entries_.begin(), entries_.end(), number,
                          [](std::uint64_t n, const Entry& e) { return n < e.number; });
}

std::deque<Queues::Entry>::iterator Queues::behind(std::uint64_t number) {
  return std::upper_bound(entries_.begin(), entries_.end(), number,
                          [](std::uint64_t n, const Entry& e) { return n < e.number; });
}

void Queues::append(Entry entry) {
  for (auto [id, events] : entry.destinations) {
    Destination& d = destinations_[id];
    d.cursor.appended += events;
    d.bytes += entry.place.size;
  }
  if (!entry.destinations.empty()) entries_.push_back(std::move(entry));
}

void Queues::move(std::uint64_t number, const Log::Place& place) {
  for (auto e = entries_.rbegin(); e != entries_.rend(); ++e)
    if (e->number == number) {
      e->place = place;
      return;
    }
}

void Queues::forget(std::uint64_t number) {
  while (!entries_.empty() && entries_.front().number <= number) entries_.pop_front();
}

void Queues::forget_many(std::uint64_t needed) {
  while (entries_.size() > kMostEntries && entries_.front().number < needed) entries_.pop_front();
}

void Queues::begin(std::uint32_t destination, std::uint64_t last_record) {
  auto [it, added] = destinations_.try_emplace(destination);
  if (added) it->second.cursor.number = last_record;
}

void Queues::keep(const std::vector<std::uint32_t>& ids) {
  std::erase_if(destinations_,
                [&](const auto& d) { return std::find(ids.begin(), ids.end(), d.first) == ids.end(); });
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
  for (auto entry = behind(d.cursor.number); entry != entries_.end() && w.oldest == 0; ++entry)
    for (auto [to, events] : entry->destinations)
      if (to == id) w.oldest = entry->appended_at;
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
  for (auto entry = behind(after); entry != entries_.end() && entry->number <= visible; ++entry)
    for (auto [id, count] : entry->destinations)
      if (id == destination) {
        *events = count;
        return &*entry;
      }
  return nullptr;
}

void Queues::in_hand(std::uint32_t destination, std::uint64_t number) {
  if (auto d = destinations_.find(destination); d != destinations_.end())
    d->second.in_hand = std::max(d->second.in_hand, number);
}

std::vector<StateChange> Queues::passed(std::uint32_t destination, std::uint64_t number) {
  Destination& d = destinations_[destination];
  for (auto entry = behind(d.cursor.number); entry != entries_.end() && entry->number <= number; ++entry)
    for (auto [id, events] : entry->destinations)
      if (id == destination) {
        d.cursor.passed += events;
        d.bytes -= std::min<std::uint64_t>(d.bytes, entry->place.size);
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
  for (auto entry = behind(in_hand);
       entry != entries_.end() && (bytes > most_bytes || entry->appended_at < oldest); ++entry)
    for (auto [id, n] : entry->destinations)
      if (id == destination) {
        shedding.events += n;
        bytes -= std::min<std::uint64_t>(bytes, entry->place.size);
        if (first == 0) first = entry->number;
        last = entry->number;
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
  for (auto [from, to] : d.shed)
    for (auto entry = behind(std::max(from == 0 ? 0 : from - 1, d.cursor.number));
         entry != entries_.end() && entry->number <= to; ++entry)
      std::erase_if(entry->destinations, [&, e = entry](const std::pair<std::uint32_t, std::uint32_t>& one) {
        if (one.first != destination) return false;
        d.cursor.passed += one.second;
        d.bytes -= std::min<std::uint64_t>(d.bytes, e->place.size);
        return true;
      });
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
  for (const Entry& e : entries_)
    for (auto [id, events] : e.destinations)
      if (auto it = destinations_.find(id); it != destinations_.end() && e.number > it->second.cursor.number)
        it->second.bytes += e.place.size;
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
    for (auto e = behind(d.cursor.number); e != entries_.end(); ++e)
      for (auto [to, events] : e->destinations)
        if (to == id) there += events;
    // One that was passed before it was destroyed was appended all the same, though its record does not say so any more.
    if (damaged) d.cursor.appended = std::max(d.cursor.appended, d.cursor.passed + there);
    const std::uint64_t passed = d.cursor.appended - std::min(there, d.cursor.appended);
    if (damaged && passed > d.cursor.passed) destroyed[id] = passed - d.cursor.passed;
    d.cursor.passed = passed;
  }
  return destroyed;
}

}  // namespace dingle
