#include "spool/spool.h"

#include <algorithm>
#include <cerrno>

namespace dingle {

using namespace std::chrono_literals;

namespace {
constexpr auto kNoteEvery = 200ms;  // how often cursors are noted while they move
constexpr auto kWaitForDisk = 1s;
constexpr auto kRetrySync = 100ms;                // after a failed fsync that could not be made good either
constexpr int kSyncsOfFull = 3;                   // of a segment, before the next one is begun
constexpr std::size_t kMostUndurable = 8u << 20;  // bytes that are kept until they are synced
}  // namespace

// ---- opening and closing

Spool::Spool(Disk& disk, SpoolSettings settings)
    : settings_(std::move(settings)),
      log_(disk, {settings_.folder, settings_.segment_size, settings_.sync != SpoolSync::os,
                  settings_.track_acknowledged}) {}

Result<std::unique_ptr<Spool>> Spool::open(Disk& disk, SpoolSettings settings) {
  std::unique_ptr<Spool> spool(new Spool(disk, std::move(settings)));
  if (auto problem = spool->recover()) return *problem;
  spool->sync_thread_ = std::thread([s = spool.get()] { s->run_sync(); });
  return spool;
}

// The newest snapshot, and what follows it.
std::optional<Problem> Spool::recover() {
  Lock lock(mutex_);
  std::vector<Log::Record> records;
  if (auto problem = log_.read(records)) return problem;
  Snapshot base;
  std::uint64_t base_at = 0;
  std::string bytes;
  for (auto r = records.rbegin(); r != records.rend() && base_at == 0; ++r) {
    if (r->type != RecordType::snapshot) continue;
    Snapshot candidate;
    if (decode_snapshot(Log::payload(*r, bytes), candidate)) base = std::move(candidate), base_at = r->number;
  }
  if (log_.is_new()) base = settings_.begin_with;
  const std::uint64_t base_number = base.number;
  queues_.restore(base.cursors);
  state_.restore(std::move(base));
  for (const Log::Record& r : records) {
    if (r.type == RecordType::snapshot) continue;
    const std::string_view payload = Log::payload(r, bytes);
    const bool newer = r.number > base_number;
    if (r.type == RecordType::note && newer) {
      Changes changes;
      Cursors cursors;
      decode_note(payload, changes, cursors);
      state_.apply(changes);
      queues_.note(cursors);
    } else if (r.type == RecordType::batch) {
      BatchPayload batch;
      decode_batch(payload, batch);
      if (newer) {
        state_.apply(batch.changes);
        for (auto [id, events] : batch.destinations) queues_.note_appended(id, events);
      }
      queues_.found({r.number, r.epoch, r.place, batch.appended_at}, batch.destinations);
    }
  }
  Recovery& recovery = log_.recovery();
  std::uint64_t missing = 0;
  for (const MissingRecords& m : recovery.missing) missing += m.numbers.count();
  const std::uint64_t lost =
      lost_records(recovery.missing, state_.values(), std::min(first_needed(), base_at));
  recovery.damaged_records += lost;
  recovery.passes_over_cut = lost != missing;
  recovery.lost_state = !log_.is_new() && base_at == 0;
  state_.note_cut({recovery.last_record + 1, log_.last()}, records.empty() ? 0 : records.front().number);
  for (const auto& [id, events] : queues_.recovered(state_, recovery.damaged_records != 0)) {
    state_.counters().add(
        {state_.counters().id(counter_of_destination(id, "damaged")), static_cast<std::int64_t>(events)});
    recovery.damaged_events += events;
  }
  if (settings_.track_acknowledged) acknowledged_.emplace(log_.is_new() ? settings_.begin_with : Snapshot());
  // The state stands on that snapshot, so its segment stays.
  const auto gone = log_.begin(snapshot(), std::min(first_needed(), base_at));
  if (!gone) return gone.problem();
  queues_.forget(*gone);
  identity_ = log_.identity();
  recovery_ = recovery;
  return std::nullopt;
}

Spool::~Spool() {
  {
    Lock lock(mutex_);
    stopping_ = true;
  }
  work_.notify_all();
  progress_.notify_all();
  if (!sync_thread_.joinable()) return;  // it was not opened
  sync_thread_.join();
  Lock lock(mutex_);
  if (owes_note()) write_note({});
  log_.close();
}

// ---- writing

Snapshot Spool::snapshot() const {
  Snapshot s;
  state_.write(s);
  s.cursors = queues_.cursors();
  return s;
}

int Spool::write_note(const Changes& changes) {
  Changes all = state_.owed(changes);
  const std::string note = encode_note(all, queues_.cursors());
  if (int error = log_.write(RecordType::note, std::string(kRecordHeaderSize, '\0') + note)) return error;
  state_.apply(changes);
  state_.noted();
  if (acknowledged_) acknowledged_->written(log_.last(), std::move(all));
  queues_.cursors_noted();
  last_note_ = std::chrono::steady_clock::now();
  return 0;
}

int Spool::append(const Append& a) {
  std::string record;
  {
    Lock lock(mutex_);
    record = log_.buffer();
  }
  record.assign(kRecordHeaderSize, '\0');
  const std::int64_t now = settings_.clock->wall();
  append_batch({now, a.changes, a.destinations, a.events}, record);
  if (record.size() - kRecordHeaderSize > kLargestPayload) return EMSGSIZE;
  {
    Lock lock(mutex_);
    // A disk that syncs slowly is waited for, rather than that memory fills with what it owes.
    progress_.wait_for(mutex_, kWaitForDisk, [&]() REQUIRES(mutex_) {
      return stopping_ || log_.undurable_bytes() < kMostUndurable;
    });
    if (stopping_) return ECANCELED;
    if (log_.undurable_bytes() >= 2 * kMostUndurable) return EAGAIN;
    progress_.wait(mutex_, [&]() REQUIRES(mutex_) { return !log_.syncing() || !log_.full(); });
    // What the full segment owes to the disk is synced without the lock: others append notes, read and pass meanwhile.
    for (int i = 0; i < kSyncsOfFull && log_.full() && log_.last() > log_.durable() && !log_.rewriting() &&
                    settings_.sync != SpoolSync::os;
         ++i) {
      sync();
      progress_.wait(mutex_, [&]() REQUIRES(mutex_) { return !log_.syncing() || !log_.full(); });
    }
    if (log_.full()) {
      if (owes_note())
        if (int error = write_note({})) return error;  // the snapshot holds these counters already
      bool lost = false;
      if (int error = log_.begin_next(snapshot(), lost)) return error;
      if (lost) rewrite();
      progress_.notify_all();
    }
    if (!state_.counters().news().empty())  // its counters must be known before it
      if (int error = write_note({})) return error;
    Queues::Entry entry{0, identity_.epoch, {}, now};
    if (int error = log_.write(RecordType::batch, std::move(record), a.compressed, &entry.place))
      return error;
    entry.number = log_.last();
    state_.apply(a.changes);
    queues_.append(std::move(entry), a.destinations);
    if (acknowledged_) acknowledged_->written(log_.last(), a.changes, a.destinations);
  }
  work_.notify_one();
  if (settings_.sync == SpoolSync::os) progress_.notify_all();
  return 0;
}

int Spool::renew(std::uint64_t& renewal) {
  Lock lock(mutex_);
  log_.keep_no_spare(true);
  for (int i = 0; i < 2; ++i) {
    progress_.wait(mutex_, [&]() REQUIRES(mutex_) { return stopping_ || !log_.syncing(); });
    if (stopping_) return ECANCELED;
    if (owes_note())
      if (const int error = write_note({})) return error;
    bool lost = false;
    if (const int error = log_.begin_next(snapshot(), lost)) return error;
    if (lost) rewrite();
    if (i == 0) renewal = log_.newest_segment();
  }
  progress_.notify_all();
  return 0;
}

bool Spool::is_renewed(std::uint64_t renewal) {
  Lock lock(mutex_);
  if (log_.oldest_segment() < renewal) return false;
  log_.keep_no_spare(false);
  return true;
}

int Spool::note(Changes changes) {
  Lock lock(mutex_);
  const int error = write_note(changes);
  work_.notify_one();
  return error;
}

void Spool::forget_buffers() {
  Lock lock(mutex_);
  log_.forget_buffers();
}

// ---- syncing

bool Spool::wait_durable(std::chrono::nanoseconds timeout) {
  Lock lock(mutex_);
  if (settings_.sync == SpoolSync::os) {
    progress_.wait(mutex_, [&]() REQUIRES(mutex_) { return !log_.syncing(); });
    log_.sync_now();
  }
  const std::uint64_t target = log_.last();
  // Whoever waits syncs, if nobody does: that spares waking another thread.
  if (settings_.sync == SpoolSync::batch && log_.durable() < target && !log_.syncing() && !log_.rewriting())
    sync();
  return progress_.wait_for(mutex_, timeout, [&]() REQUIRES(mutex_) { return log_.durable() >= target; });
}

// Makes what was appended durable, or sees to it that it is written anew.
void Spool::sync() {
  const Log::Sync sync = log_.begin_sync();
  mutex_.unlock();
  const int error = sync.run();
  mutex_.lock();
  if (!log_.end_sync(sync, error) && log_.lost(sync)) rewrite();
  progress_.notify_all();
  if (log_.last() > log_.durable()) work_.notify_one();
}

void Spool::rewrite() {
  const Log::Rewritten rewritten = log_.rewrite(snapshot());
  if (rewritten.began) state_.stands_in_snapshot();
  if (rewritten.done)
    for (const auto& [number, place] : rewritten.moved) queues_.move(number, place);
  else  // without the lock
    work_.wait_for(mutex_, kRetrySync, [&]() REQUIRES(mutex_) { return stopping_; });
}

void Spool::run_sync() {
  const bool syncs = settings_.sync != SpoolSync::os;
  Lock lock(mutex_);
  while (!stopping_) {
    work_.wait_for(mutex_, kNoteEvery, [&]() REQUIRES(mutex_) {
      return stopping_ || (syncs && !log_.syncing() && log_.last() > log_.durable());
    });
    if (stopping_) return;
    if (owes_note() && std::chrono::steady_clock::now() - last_note_ >= kNoteEvery) write_note({});
    if (syncs && log_.last() > log_.durable()) {
      if (settings_.sync == SpoolSync::interval)
        work_.wait_for(mutex_, settings_.interval, [&]() REQUIRES(mutex_) { return stopping_; });
      if (!log_.syncing()) sync();
    }
    trim();
  }
}

// Removes the segments that every destination has passed.
void Spool::trim() {
  const std::uint64_t needed = first_needed();
  queues_.forget_many(needed);
  const std::size_t removable = log_.removable(needed);
  if (removable == 0 || log_.rewriting()) return;
  // The cursors must be on disk first: else a crash would let a destination look for what is gone.
  if (owes_note())
    if (write_note({}) != 0) return;
  if (log_.syncing()) return;  // soon again
  const Log::Sync sync = log_.begin_sync();
  mutex_.unlock();
  const int error = sync.run();
  mutex_.lock();
  const bool durable = log_.end_sync(sync, error);
  progress_.notify_all();
  if (!durable) {
    if (log_.lost(sync)) rewrite();
    return;
  }
  Log::Removal removal =
      log_.remove(removable, log_.lacks_reserve() ? std::optional(snapshot()) : std::nullopt);
  // The batches of segments that stay can still be read: a destination restored from a backup may need them.
  queues_.forget(removal.last_record);
  mutex_.unlock();
  removal.run();
  mutex_.lock();
  log_.removed(std::move(removal));
}

Snapshot Spool::acknowledged() {
  Lock lock(mutex_);
  if (owes_note()) write_note({});
  return acknowledged_->up_to(first_needed(), snapshot().names);
}

// ---- reading

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

// Whether the record can be read.
bool read_record(const Log::Place& place, Spool::Read& out) {
  out.batch = {};
  if (!out.bytes) out.bytes = std::make_unique<std::string>();
  return place.file->read(place.offset, place.size, *out.bytes) == 0 &&
         record_is_intact(*out.bytes, place.segment) &&
         decode_batch(std::string_view(*out.bytes).substr(kRecordHeaderSize), out.batch) && expand(out);
}

}  // namespace

bool Spool::read(std::uint32_t destination, std::uint64_t after, std::chrono::nanoseconds timeout,
                 Read& out) {
  const auto deadline = std::chrono::steady_clock::now() + timeout;
  out.unreadable_events = 0;
  Lock lock(mutex_);
  const std::uint64_t wakes = wakes_;
  for (;;) {
    const Queues::Entry* entry = nullptr;
    progress_.wait_until(mutex_, deadline, [&]() REQUIRES(mutex_) {
      entry = queues_.next(destination, after, visible(), &out.events);
      return entry != nullptr || stopping_ || wakes_ != wakes;
    });
    if (entry == nullptr) return false;
    const Queues::Entry found = *entry;  // while unlocked, entries may come and go
    queues_.in_hand(destination, found.number);
    mutex_.unlock();
    out.number = {found.epoch, found.number};
    out.appended_at = found.appended_at;
    const bool whole = read_record(found.place, out);
    mutex_.lock();
    if (whole) return true;
    out.unreadable_events += out.events;
    after = found.number;
    ++unreadable_;
  }
}

void Spool::wake_readers() {
  Lock lock(mutex_);
  ++wakes_;
  progress_.notify_all();
}

bool Spool::has_more(std::uint32_t destination, std::uint64_t after) const {
  Lock lock(mutex_);
  std::uint32_t events = 0;
  return queues_.next(destination, after, visible(), &events) != nullptr;
}

std::uint64_t Spool::cursor(std::uint32_t destination) const {
  Lock lock(mutex_);
  return queues_.cursor(destination);
}

std::uint64_t Spool::last_record() const {
  Lock lock(mutex_);
  return log_.last();
}

bool Spool::has_passed(std::uint32_t destination, std::uint64_t number) const {
  Lock lock(mutex_);
  std::uint32_t events = 0;
  const Queues::Entry* next = queues_.next(destination, queues_.cursor(destination), log_.last(), &events);
  return next == nullptr || next->number > number;
}

std::uint64_t Spool::first_record() const {
  Lock lock(mutex_);
  return queues_.first(log_.last() + 1);
}

void Spool::passed(std::uint32_t destination, std::uint64_t number, Changes changes) {
  Lock lock(mutex_);
  for (StateChange& c : queues_.passed(destination, number)) changes.state.push_back(std::move(c));
  state_.change(std::move(changes));
}

std::uint64_t Spool::shed_oldest(std::uint32_t destination, std::uint64_t most_bytes, std::int64_t oldest,
                                 const std::string& counter) {
  Lock lock(mutex_);
  Queues::Shedding shedding = queues_.to_shed(destination, most_bytes, oldest);
  const std::uint64_t events = shedding.events;
  if (events == 0) return 0;
  const CounterId id = state_.counters().id(counter);
  if (write_note({{shedding.state}, {{id, static_cast<std::int64_t>(events)}}}) != 0) return 0;
  queues_.shed(destination, std::move(shedding));
  return events;
}

Spool::Waiting Spool::waiting(std::uint32_t destination) const {
  Lock lock(mutex_);
  return queues_.waiting(destination);
}

Spool::View Spool::view() const {
  Lock lock(mutex_);
  return {state_.counters().all(), queues_.waiting()};
}

Spool::Size Spool::size() const {
  Lock lock(mutex_);
  const Log::Size log = log_.size();
  return {log.bytes, log.segments, unreadable_, log.failed_syncs};
}

// ---- state and counters

void Spool::count(std::vector<CounterChange> counters) {
  Lock lock(mutex_);
  state_.change({{}, std::move(counters)});
}

void Spool::count(const std::string& name, std::int64_t change) {
  if (change != 0) count({{counter_id(name), change}});
}

CounterId Spool::counter_id(const std::string& name) {
  Lock lock(mutex_);
  return state_.counters().id(name);
}

std::size_t Spool::name_counters(const std::vector<CounterName>& kept) {
  Lock lock(mutex_);
  return state_.counters().name(kept);
}

std::vector<CounterName> Spool::counter_names() const {
  Lock lock(mutex_);
  return state_.counters().names();
}

void Spool::forget_counters(const std::string& prefix, const std::string& kept) {
  Lock lock(mutex_);
  state_.counters().forget(prefix, kept);
}

std::optional<std::string> Spool::state(const std::string& key) const {
  Lock lock(mutex_);
  return state_.value(key);
}

std::map<std::string, std::string> Spool::state_with_prefix(const std::string& prefix) const {
  Lock lock(mutex_);
  return state_.with_prefix(prefix);
}

PackedMap Spool::whole_state() const {
  Lock lock(mutex_);
  return state_.values();
}

std::int64_t Spool::counter(const std::string& name) const {
  Lock lock(mutex_);
  return state_.counters().value(name);
}

}  // namespace dingle
