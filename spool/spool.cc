#include "spool/spool.h"

#include <fmt/format.h>
#include <unistd.h>

#include <algorithm>
#include <cerrno>

#include "core/time/instant.h"

namespace dingle {

using namespace std::chrono_literals;

namespace {
constexpr auto kNoteEvery = 200ms;  // how often cursors are noted while they move
constexpr auto kWaitForDisk = 1s;
constexpr std::size_t kMostBuffers = 4, kLargestBuffer = 1u << 20;  // that are kept for the next records
constexpr std::size_t kMostUndurable = 8u << 20;  // bytes that are kept until they are synced
}  // namespace

Spool::~Spool() {
  {
    std::lock_guard lock(mutex_);
    stopping_ = true;
  }
  work_.notify_all();
  progress_.notify_all();
  if (sync_thread_.joinable()) sync_thread_.join();
  if (!segments_.empty()) {
    if (owes_note()) write_note({});
    if (segments_.back().file->sync() == 0 && !rewrite_) write_mark(last_number_);
  }
  if (lock_ >= 0) ::close(lock_);
}

// ---- writing; all of these with the mutex held
// --------------------------------------------------------------------

void Spool::apply(const Changes& changes) {
  for (const StateChange& s : changes.state) {
    if (s.removed)
      state_.erase(s.key);
    else
      state_[s.key] = s.value;
  }
  counters_.apply(changes.names);
  for (const CounterChange& c : changes.counters) counters_.add(c);
}

bool Spool::owes_note() const {
  return cursors_changed_ || !unsaved_.counters.empty() || !unsaved_.state.empty() ||
         !counters_.news().empty();
}

Snapshot Spool::snapshot() const {
  Snapshot s;
  s.number = last_number_;
  s.state = state_;
  counters_.write(s);
  for (const auto& [id, d] : destinations_) s.cursors[id] = d.cursor;
  return s;
}

// Writes the record with the next number; its payload stands behind room for its header.
int Spool::write(RecordType type, std::string record, Entry* entry, bool compressed) {
  Segment& segment = segments_.back();
  seal_record(record, type, last_number_ + 1, durable_, segment.number, compressed);
  const std::uint64_t offset = segment.file->size();
  if (int error = segment.file->append(record)) return error;
  ++last_number_;
  segment.last_record = last_number_;
  if (entry) {
    entry->number = last_number_;
    entry->epoch = identity_.epoch;
    entry->file = segment.file;
    entry->segment = segment.number;
    entry->offset = offset;
    entry->size = static_cast<std::uint32_t>(record.size());
  }
  if (settings_.sync != SpoolSync::os) {
    undurable_bytes_ += record.size();
    undurable_.emplace_back(last_number_, std::move(record));
  }
  return 0;
}

int Spool::write_note(Changes changes) {
  Cursors cursors;
  for (const auto& [id, d] : destinations_) cursors[id] = d.cursor;
  Changes all = unsaved_;  // applied when they were given
  all.state.insert(all.state.end(), changes.state.begin(), changes.state.end());
  all.counters.insert(all.counters.end(), changes.counters.begin(), changes.counters.end());
  all.names = counters_.news();
  if (int error =
          write(RecordType::note, std::string(kRecordHeaderSize, '\0') + encode_note(all, cursors), nullptr))
    return error;
  apply(changes);
  counters_.told();
  if (settings_.track_acknowledged) pending_.push_back({last_number_, std::move(all), {}});
  unsaved_ = {};
  cursors_changed_ = false;
  last_note_ = std::chrono::steady_clock::now();
  return 0;
}

// Forgets the copies of records that are on disk.
void Spool::forget_durable() {
  for (; !undurable_.empty() && undurable_.front().first <= durable_; undurable_.pop_front()) {
    std::string& record = undurable_.front().second;
    undurable_bytes_ -= record.size();
    if (buffers_.size() < kMostBuffers && record.capacity() <= kLargestBuffer)
      buffers_.push_back(std::move(record));
  }
  if (undurable_bytes_ < kMostUndurable) progress_.notify_all();
}

void Spool::forget_buffers() {
  std::lock_guard lock(mutex_);
  decltype(buffers_)().swap(buffers_);
}

int Spool::append(const Append& a) {
  std::string record;
  {
    std::lock_guard lock(mutex_);
    if (!buffers_.empty()) record = std::move(buffers_.back()), buffers_.pop_back();
  }
  record.assign(kRecordHeaderSize, '\0');
  const std::int64_t now = settings_.clock->wall();
  append_batch({now, a.changes, a.destinations, a.events}, record);
  if (record.size() - kRecordHeaderSize > kLargestPayload) return EMSGSIZE;
  std::unique_lock lock(mutex_);
  // A disk that syncs slowly is waited for, rather than that memory fills with what it owes.
  progress_.wait_for(lock, kWaitForDisk, [&] { return stopping_ || undurable_bytes_ < kMostUndurable; });
  if (stopping_) return ECANCELED;
  if (undurable_bytes_ >= 2 * kMostUndurable) return EAGAIN;
  progress_.wait(lock, [&] { return !syncing_ || !is_full(segments_.back()); });
  if (is_full(segments_.back())) {
    if (owes_note())
      if (int error = write_note({})) return error;  // the snapshot holds these counters already
    if (!rewrite_ && segments_.back().file->sync() == 0) {
      durable_ = last_number_;
      forget_durable();
      if (int error = begin_segment()) return error;
      durable_ = last_number_;
    } else {
      after_failed_sync();
    }
  }
  if (!counters_.news().empty())  // its counters must be known before it
    if (int error = write_note({})) return error;
  Entry entry;
  entry.destinations = a.destinations;
  entry.appended_at = now;
  if (int error = write(RecordType::batch, std::move(record), &entry, a.compressed)) return error;
  apply(a.changes);
  for (auto [id, events] : a.destinations) {
    Destination& d = destinations_[id];
    d.cursor.appended += events;
    d.bytes += entry.size;
  }
  if (settings_.track_acknowledged) pending_.push_back({last_number_, a.changes, a.destinations});
  if (!a.destinations.empty()) entries_.push_back(std::move(entry));
  lock.unlock();
  work_.notify_one();
  if (settings_.sync == SpoolSync::os) progress_.notify_all();
  return 0;
}

int Spool::note(Changes changes) {
  std::lock_guard lock(mutex_);
  int error = write_note(std::move(changes));
  work_.notify_one();
  return error;
}

bool Spool::wait_durable(std::chrono::nanoseconds timeout) {
  std::unique_lock lock(mutex_);
  if (settings_.sync == SpoolSync::os) {
    progress_.wait(lock, [&] { return !syncing_; });
    if (segments_.back().file->sync() == 0) durable_ = last_number_;
  }
  const std::uint64_t target = last_number_;
  // Whoever waits syncs, if nobody does: that spares waking another thread.
  if (settings_.sync == SpoolSync::batch && durable_ < target && !syncing_ && !rewrite_) sync(lock);
  return progress_.wait_for(lock, timeout, [&] { return durable_ >= target; });
}

// ---- the sync thread
// -----------------------------------------------------------------------------------------------

// Makes what was appended durable, or sees to it that it is written anew. Unlocks meanwhile.
void Spool::sync(std::unique_lock<std::mutex>& lock) {
  const std::uint64_t target = last_number_;
  const bool rewrite = rewrite_;
  std::shared_ptr<DiskFile> file = segments_.back().file;
  syncing_ = true;
  lock.unlock();
  const int error = rewrite ? EIO : file->sync();
  lock.lock();
  syncing_ = false;
  if (error == 0) {
    if (target > durable_) durable_ = target;
    forget_durable();
  } else if (file == segments_.back().file) {  // else appending began a new segment, and saw to it
    after_failed_sync();
  }
  progress_.notify_all();
  if (last_number_ > durable_) work_.notify_one();
}

void Spool::run_sync() {
  std::unique_lock lock(mutex_);
  while (!stopping_) {
    work_.wait_for(lock, kNoteEvery, [&] {
      return stopping_ || (settings_.sync != SpoolSync::os && !syncing_ && last_number_ > durable_);
    });
    if (stopping_) return;
    if (owes_note() && std::chrono::steady_clock::now() - last_note_ >= kNoteEvery) write_note({});
    if (settings_.sync != SpoolSync::os && last_number_ > durable_) {
      if (settings_.sync == SpoolSync::interval) {
        work_.wait_for(lock, settings_.interval, [&] { return stopping_; });
      }
      if (!syncing_) sync(lock);
    }
    trim(lock);
  }
}

Snapshot Spool::acknowledged() {
  std::lock_guard lock(mutex_);
  if (owes_note()) write_note({});
  const std::uint64_t needed = first_needed();
  for (; !pending_.empty() && pending_.front().number < needed; pending_.pop_front()) {
    for (const StateChange& c : pending_.front().changes.state) {
      if (c.removed)
        acknowledged_.state.erase(c.key);
      else
        acknowledged_.state[c.key] = c.value;
    }
    for (const CounterChange& c : pending_.front().changes.counters) acknowledged_.counters[c.id] += c.change;
    for (auto [id, events] : pending_.front().destinations)
      acknowledged_.cursors[id].appended = acknowledged_.cursors[id].passed += events;
  }
  Snapshot now = snapshot();
  acknowledged_.names = std::move(now.names);
  return acknowledged_;
}

// ---- reading
// -------------------------------------------------------------------------------------------------------

namespace {

// Puts the events in place of their compressed form, if they are compressed.
bool expand(Spool::Read& read) {
  RecordHeader header;
  decode_record_header(*read.bytes, header);
  if (!header.compressed) return true;
  *read.bytes = decompress_events(read.batch.events);
  read.batch.events = *read.bytes;
  return !read.bytes->empty();
}

}  // namespace

// The first visible record behind `after` with events for the destination.
const Spool::Entry* Spool::next(std::uint32_t destination, std::uint64_t after, std::uint32_t* events) const {
  auto entry = std::upper_bound(entries_.begin(), entries_.end(), after,
                                [](std::uint64_t n, const Entry& e) { return n < e.number; });
  for (; entry != entries_.end() && entry->number <= visible(); ++entry)
    for (auto [id, count] : entry->destinations)
      if (id == destination) {
        *events = count;
        return &*entry;
      }
  return nullptr;
}

bool Spool::read(std::uint32_t destination, std::uint64_t after, std::chrono::nanoseconds timeout,
                 Read& out) {
  const auto deadline = std::chrono::steady_clock::now() + timeout;
  out.unreadable_events = 0;
  std::unique_lock lock(mutex_);
  const std::uint64_t wakes = wakes_;
  for (;;) {
    if (const Entry* entry = next(destination, after, &out.events)) {
      const Entry found = *entry;  // while unlocked, entries may come and go
      if (auto d = destinations_.find(destination); d != destinations_.end())
        d->second.in_hand = std::max(d->second.in_hand, found.number);
      lock.unlock();
      out.number = {found.epoch, found.number};
      out.appended_at = found.appended_at;
      out.batch = {};
      if (!out.bytes) out.bytes = std::make_unique<std::string>();
      if (found.file->read(found.offset, found.size, *out.bytes) == 0 &&
          record_is_intact(*out.bytes, found.segment) &&
          decode_batch(std::string_view(*out.bytes).substr(kRecordHeaderSize), out.batch) && expand(out))
        return true;
      out.unreadable_events += out.events;
      after = found.number;
      lock.lock();
      ++unreadable_;
      continue;
    }
    if (stopping_ || wakes_ != wakes || progress_.wait_until(lock, deadline) == std::cv_status::timeout)
      return false;
  }
}

void Spool::wake_readers() {
  std::lock_guard lock(mutex_);
  ++wakes_;
  progress_.notify_all();
}

bool Spool::has_more(std::uint32_t destination, std::uint64_t after) const {
  std::lock_guard lock(mutex_);
  std::uint32_t events = 0;
  return next(destination, after, &events) != nullptr;
}

std::uint64_t Spool::cursor(std::uint32_t destination) const {
  std::lock_guard lock(mutex_);
  auto it = destinations_.find(destination);
  return it == destinations_.end() ? 0 : it->second.cursor.number;
}

std::uint64_t Spool::first_record() const {
  std::lock_guard lock(mutex_);
  return entries_.empty() ? last_number_ + 1 : entries_.front().number;
}

void Spool::passed(std::uint32_t destination, std::uint64_t number, Changes changes) {
  std::lock_guard lock(mutex_);
  Destination& d = destinations_[destination];
  auto entry = std::upper_bound(entries_.begin(), entries_.end(), d.cursor.number,
                                [](std::uint64_t n, const Entry& e) { return n < e.number; });
  for (; entry != entries_.end() && entry->number <= number; ++entry)
    for (auto [id, events] : entry->destinations)
      if (id == destination)
        d.cursor.passed += events, d.bytes -= std::min<std::uint64_t>(d.bytes, entry->size);
  d.cursor.number = std::max(d.cursor.number, number);
  forget_shed(destination, d);
  cursors_changed_ = true;
  apply(changes);
  for (StateChange& c : changes.state) unsaved_.state.push_back(std::move(c));
  for (const CounterChange& c : changes.counters) unsaved_.counters.push_back(c);
}

void Spool::count(std::vector<CounterChange> counters) {
  std::lock_guard lock(mutex_);
  for (const CounterChange& c : counters) {
    counters_.add(c);
    unsaved_.counters.push_back(c);
  }
}

void Spool::count(const std::string& name, std::int64_t change) {
  if (change != 0) count({{counter_id(name), change}});
}

CounterId Spool::counter_id(const std::string& name) {
  std::lock_guard lock(mutex_);
  return counters_.id(name);
}

void Spool::forget_counters(const std::string& prefix, const std::string& kept) {
  std::lock_guard lock(mutex_);
  counters_.forget(prefix, kept);
}

Spool::Waiting Spool::waiting(std::uint32_t id, const Destination& d) const {
  Waiting w;
  w.appended = d.cursor.appended;
  w.events = d.cursor.appended - d.cursor.passed;
  w.bytes = d.bytes;
  if (w.events == 0) return w;
  auto entry = std::upper_bound(entries_.begin(), entries_.end(), d.cursor.number,
                                [](std::uint64_t n, const Entry& e) { return n < e.number; });
  for (; entry != entries_.end() && w.oldest == 0; ++entry)
    for (auto [to, events] : entry->destinations)
      if (to == id) w.oldest = entry->appended_at;
  return w;
}

Spool::Waiting Spool::waiting(std::uint32_t destination) const {
  std::lock_guard lock(mutex_);
  auto it = destinations_.find(destination);
  return it == destinations_.end() ? Waiting{} : waiting(destination, it->second);
}

Spool::View Spool::view() const {
  std::lock_guard lock(mutex_);
  View v;
  v.counters = counters_.all();
  for (const auto& [id, d] : destinations_) v.waiting[id] = waiting(id, d);
  return v;
}

Spool::Size Spool::size() const {
  std::lock_guard lock(mutex_);
  Size s;
  for (const Segment& segment : segments_) s.bytes += std::max(segment.reused, segment.file->size());
  s.bytes += spare_.bytes;
  s.segments = segments_.size();
  s.unreadable = unreadable_;
  s.failed_syncs = failed_syncs_;
  return s;
}

// ---- state
// ---------------------------------------------------------------------------------------------------------

std::optional<std::string> Spool::state(const std::string& key) const {
  std::lock_guard lock(mutex_);
  auto it = state_.find(key);
  return it == state_.end() ? std::nullopt : std::optional(it->second);
}

std::map<std::string, std::string> Spool::state_with_prefix(const std::string& prefix) const {
  std::lock_guard lock(mutex_);
  std::map<std::string, std::string> found;
  for (auto it = state_.lower_bound(prefix); it != state_.end() && it->first.starts_with(prefix); ++it)
    found.insert(*it);
  return found;
}

std::int64_t Spool::counter(const std::string& name) const {
  std::lock_guard lock(mutex_);
  return counters_.value(name);
}

std::uint32_t Spool::id(const std::string& key, const std::string& next_key) {
  auto number = [&](const std::string& k, std::uint32_t fallback) {
    auto it = state_.find(k);
    return it == state_.end() ? fallback
                              : static_cast<std::uint32_t>(std::strtoul(it->second.c_str(), nullptr, 10));
  };
  if (std::uint32_t known = number(key, 0)) return known;
  const std::uint32_t next = number(next_key, 1);
  if (write_note({{{key, std::to_string(next), false}, {next_key, std::to_string(next + 1), false}}, {}}) !=
      0)
    return 0;  // else the next name got the same one
  work_.notify_one();
  return next;
}

std::uint32_t Spool::destination(const std::string& name) {
  std::lock_guard lock(mutex_);
  const std::uint32_t known = id("destination/" + name, "next-destination");
  if (known == 0) return 0;
  auto [it, added] = destinations_.try_emplace(known);
  if (added) it->second.cursor.number = last_number_;
  return known;
}

std::uint32_t Spool::pipeline(const std::string& name) {
  std::lock_guard lock(mutex_);
  return id("pipeline/" + name, "next-pipeline");
}

std::uint32_t Spool::step(std::uint32_t pipeline, const std::string& name) {
  std::lock_guard lock(mutex_);
  return id("step/" + std::to_string(pipeline) + "/" + name, "next-step");
}

int Spool::rename_destination(const std::string& from, const std::string& to) {
  std::lock_guard lock(mutex_);
  auto it = state_.find("destination/" + from);
  if (it == state_.end()) return 0;
  const std::string value = it->second;
  if (auto other = state_.find("destination/" + to); other != state_.end()) {
    auto d = destinations_.find(static_cast<std::uint32_t>(std::strtoul(other->second.c_str(), nullptr, 10)));
    if (d != destinations_.end() && d->second.cursor.appended > d->second.cursor.passed) return EBUSY;
    if (d != destinations_.end()) destinations_.erase(d);
  }
  return write_note({{{"destination/" + from, "", true}, {"destination/" + to, value, false}}, {}});
}

void Spool::keep_destinations(const std::vector<std::uint32_t>& ids) {
  std::lock_guard lock(mutex_);
  std::erase_if(destinations_,
                [&](const auto& d) { return std::find(ids.begin(), ids.end(), d.first) == ids.end(); });
  // A name that comes back some day is another destination.
  const std::string prefix = "destination/";
  Changes gone;
  for (auto it = state_.lower_bound(prefix); it != state_.end() && it->first.starts_with(prefix); ++it)
    if (std::find(ids.begin(), ids.end(), std::strtoul(it->second.c_str(), nullptr, 10)) == ids.end())
      gone.state.push_back({it->first, "", true});
  if (!gone.state.empty()) write_note(std::move(gone));
}

}  // namespace dingle
