#include "agent/engine/batch_reader.h"

#include <algorithm>

namespace dingle {

using namespace std::chrono_literals;

namespace {
constexpr std::size_t kEnough = 2'000;  // events that need no company
constexpr std::chrono::nanoseconds kFirst = 500ms;
}  // namespace

BatchReader::BatchReader(Spool& spool, std::uint32_t destination, Limits limits,
                         const std::atomic<bool>& stopping)
    : spool_(spool), destination_(destination), limits_(limits), stopping_(stopping) {}

void BatchReader::begin(Slot& slot, std::uint64_t after, std::optional<Spool::Read> first) {
  for (Spool::Read& record : slot.read.records) slot.spare.push_back(std::move(record.bytes));
  slot.read.records.clear();
  slot.read.events.clear();
  slot.read.damaged = 0;
  slot.after = after;
  slot.events = slot.bytes = slot.decoded = 0;
  slot.full = false;
  slot.over.reset();
  slot.decoder.reuse();
  if (first) add(slot, std::move(*first));
}

void BatchReader::add(Slot& slot, Spool::Read record) const {
  slot.events += record.events;
  slot.bytes += record.bytes->size();
  slot.full = slot.events >= limits_.events || slot.bytes >= limits_.bytes;
  slot.read.records.push_back(std::move(record));
}

// Reads records until there are enough events, or no more come, or (unless it may wait) none is there.
void BatchReader::fill(Slot& slot, bool wait) {
  std::vector<Spool::Read>& records = slot.read.records;
  const auto begin = std::chrono::steady_clock::now();
  while (!stopping_ && !slot.full) {
    const auto waited = std::chrono::steady_clock::now() - begin;
    const bool enough = slot.events >= std::min(kEnough, limits_.events) || waited >= limits_.age + kFirst;
    const auto timeout = !wait || (!records.empty() && enough) ? 0ns : records.empty() ? kFirst : limits_.age;
    Spool::Read record;
    if (!slot.spare.empty()) {
      record.bytes = std::move(slot.spare.back());
      slot.spare.pop_back();
    }
    if (!spool_.read(destination_, records.empty() ? slot.after : slot.read.last(), timeout, record)) break;
    if (!records.empty() && slot.events + record.events > limits_.events) {
      slot.over = std::move(record);
      slot.full = true;
    } else {
      add(slot, std::move(record));
    }
  }
  for (; slot.decoded < records.size(); ++slot.decoded) {
    const Spool::Read& record = records[slot.decoded];
    slot.room.clear();
    const bool whole = slot.decoder.decode(record.batch.events, destination_, slot.room);
    slot.read.damaged += record.unreadable_events;
    // Of one that is whole and holds fewer nothing is damaged: the balance shows it.
    if (!whole && slot.room.size() < record.events) slot.read.damaged += record.events - slot.room.size();
    for (const SpooledEvent& e : slot.room) slot.read.events.push_back({record.number, e});
  }
}

BatchReader::Read* BatchReader::next(std::uint64_t after) {
  if (reading_.valid()) reading_.get();
  const bool follows = !now_.read.records.empty() && now_.read.last() == after;
  if (!ahead_.read.records.empty() && ahead_.after == after)
    std::swap(now_, ahead_);
  else
    begin(now_, after, follows ? std::move(now_.over) : std::nullopt);
  begin(ahead_, 0, std::nullopt);
  fill(now_, true);
  if (now_.read.records.empty()) return nullptr;
  if (limits_.ahead && now_.full && !stopping_) {
    begin(ahead_, now_.read.last(), std::move(now_.over));
    now_.over.reset();
    reading_ = std::async(std::launch::async, [this] { fill(ahead_, false); });
  }
  return &now_.read;
}

void BatchReader::forget() {
  discard();
  now_ = {};
  ahead_ = {};
}

void BatchReader::discard() {
  if (reading_.valid()) reading_.get();
}

}  // namespace dingle
