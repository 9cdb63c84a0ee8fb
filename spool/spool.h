// The spool: the on-disk queue between sources and destinations. One log for the whole agent, one cursor a
// destination.
//
// What is appended together becomes durable together: the events of a batch, the checkpoint of the source
// that they came from, and the changes of counters and state. After a crash either all of it is there or
// nothing.
//
//   auto spool = Spool::open(system_disk(), {.folder = "data/spool"});
//   if (!spool) return spool.problem();                     // "the spool is in use by another process"
//   std::uint32_t id = (*spool)->destination("operations");
//   (*spool)->append({.changes = ..., .destinations = {{id, 512}}, .events = bytes});
//   Spool::Read read;
//   while ((*spool)->read(id, cursor, 100ms, read)) { deliver(read); (*spool)->passed(id, read.number.number,
//   {}); }
//
// Thread-safe: one mutex over three parts, the log (log.h: files), its state (state.h: keys and counters) and the queues (queues.h:
// records and cursors). One thread appends, one reads for each destination. A thread of the spool's own syncs and removes what every
// destination has passed. The files' format and its crash cases are in format.h.
#pragma once

#include <chrono>
#include <cstdint>
#include <map>
#include <memory>
#include <optional>
#include <string>
#include <thread>
#include <vector>

#include "core/result.h"
#include "core/time/clock.h"
#include "spool/acknowledged.h"
#include "spool/disk.h"
#include "spool/format.h"
#include "spool/log.h"
#include "spool/mutex.h"
#include "spool/queues.h"
#include "spool/state.h"

namespace dingle {

// Events as a zstd frame, and back; "" if the bytes are none.
std::string compress_events(std::string_view events);
std::string decompress_events(std::string_view frame);

// Which records destinations may see.
enum class SpoolSync {
  batch,     // those on disk; every append is synced at once (appends that come meanwhile share one sync)
  interval,  // those on disk; synced every `interval`
  os,        // all; left to the operating system: exact through kill -9, not through power loss
};

struct SpoolSettings {
  std::string folder;
  SpoolSync sync = SpoolSync::batch;
  std::chrono::nanoseconds interval = std::chrono::milliseconds(50);
  std::uint64_t segment_size = 64u << 20;  // bytes behind its snapshot after which a new segment begins
  // Keeps track of the state as of what every destination is done with, for `acknowledged`.
  bool track_acknowledged = false;
  Snapshot begin_with = {};  // state of a new spool
  const Clock* clock = &system_clock();
};

// A log sequence number: unique over the life of a spool, growing.
struct LogNumber {
  std::uint64_t epoch = 0, number = 0;
  friend auto operator<=>(const LogNumber&, const LogNumber&) = default;
};

// The names of the counters of a destination, and of a pipeline, in the spool.
std::string counter_of_destination(std::uint32_t id, const char* what);
std::string counter_of_pipeline(std::uint32_t id, const char* what);

class Spool {
 public:
  // Recovers what is in the folder, or begins a new spool there. Locks the folder against a second process.
  // Cost: reads and checks every segment (about 1 GB a second).
  static Result<std::unique_ptr<Spool>> open(Disk& disk, SpoolSettings settings);
  ~Spool();  // syncs, and notes the cursors

  using Identity = Log::Identity;
  const Identity& identity() const { return identity_; }
  using Recovery = Log::Recovery;  // what opening found wrong
  const Recovery& recovery() const { return recovery_; }

  // ---- appending ----
  struct Append {
    Changes changes;
    std::vector<std::pair<std::uint32_t, std::uint32_t>> destinations;  // id, events for it
    std::string events;                                                 // events.h
    bool compressed = false;                                            // `events` is a zstd frame
  };
  // An errno value; 0: appended, and visible to destinations as the sync setting says. On an error (disk
  // full) nothing was appended, and it may be tried again; not so with EMSGSIZE: no record is that large.
  int append(const Append& append);
  // Appends changes alone, without waiting; an errno value.
  int note(Changes changes);
  // Waits until everything appended so far is on disk. False if that failed or took longer.
  bool wait_durable(std::chrono::nanoseconds timeout);

  // ---- state and counters ----
  std::optional<std::string> state(const std::string& key) const;
  std::map<std::string, std::string> state_with_prefix(const std::string& prefix) const;
  PackedMap whole_state() const;  // as of now; costs a pointer for each 2 KiB of it
  std::int64_t counter(const std::string& name) const;
  // The number under which a counter is changed, made if there is none. It holds until the counter is forgotten.
  CounterId counter_id(const std::string& name);
  // Gives counters back the names that were lost with damaged records. How many.
  std::size_t name_counters(const std::vector<CounterName>& kept);
  std::vector<CounterName> counter_names() const;
  // Forgets the counters whose names begin so, but not those that begin as `kept` does.
  void forget_counters(const std::string& prefix, const std::string& kept);

  // ---- names ----
  // The id kept under this name, made if there is none; 0 if it could not be written. Names may change, ids
  // do not.
  std::uint32_t destination(const std::string& name);
  // Of a pipeline, or of a step with memory; 0 if there is none. `pipeline`: whose step it is; 0: it is a pipeline's name itself.
  std::uint32_t known(std::uint32_t pipeline, const std::string& name) const;
  struct StepName {
    std::uint32_t pipeline = 0;
    std::string pipeline_name, step;  // "": the pipeline's id has no name any more
  };
  std::optional<StepName> step_name(std::uint32_t id) const;
  // Gives the id of a pipeline or step to another name, whose own id is forgotten. A name without an id is passed over.
  struct Renamed {
    std::uint32_t pipeline = 0;  // as in `known`
    std::string from, to;
  };
  // All that a configuration calls by names, and the ids that these get: those that they have, those of their former names, or new
  // ones. It is noted in one record: either all of it, or nothing has changed.
  struct Naming {
    std::vector<std::pair<std::string, std::string>> destinations;  // name, former name or ""
    std::vector<Renamed> renamed;                                   // done first
    std::vector<std::string> pipelines;
    std::vector<std::pair<std::size_t, std::string>> steps;  // with memory: place in `pipelines`, name
    Changes changes;                                         // that stand in the same record
    std::vector<std::uint32_t> destination_ids, pipeline_ids, step_ids;  // the answer, in the same order
    std::string
        waiting;  // with EBUSY: the destination, for which events wait, whose name another one would get
  };
  int name(Naming& naming);  // an errno value
  // Sets which destinations exist; forgets the cursors, names and ids of others. The caller has seen to what
  // waits for those.
  void keep_destinations(const std::vector<std::uint32_t>& ids);

  // ---- destinations ----
  struct Read {
    LogNumber number;
    std::uint32_t events = 0;  // for this destination
    std::uint64_t unreadable_events =
        0;  // of records passed over before this one, because they cannot be read any more
    std::int64_t appended_at = 0;  // ns since 1970 UTC
    // Owns what `batch` points into, also after the Read was moved. If there already, its memory is used.
    std::unique_ptr<std::string> bytes;
    BatchPayload batch;
  };
  // The next batch with events for the destination behind record `after`; waits up to `timeout` for one.
  // False if none came. A record that cannot be read any more is passed over, and its events are counted in
  // `unreadable_events`.
  bool read(std::uint32_t destination, std::uint64_t after, std::chrono::nanoseconds timeout, Read& out);
  // Whether there is one, without waiting for it.
  bool has_more(std::uint32_t destination, std::uint64_t after) const;
  std::uint64_t cursor(std::uint32_t destination) const;  // where its reading goes on
  std::uint64_t last_record() const;                      // the newest one, of whatever form
  // Whether the destination is done with everything up to that record.
  bool has_passed(std::uint32_t destination, std::uint64_t number) const;
  std::uint64_t first_record() const;  // the oldest batch that can still be read; else the next
  // The destination is done with everything up to that record. Noted on disk within a fraction of a second;
  // the counters change with it.
  void passed(std::uint32_t destination, std::uint64_t number, Changes changes = {});
  // Gives up the oldest records that wait for the destination and are not in hand (read, but not passed),
  // until at most `most_bytes` wait, and those appended before `oldest` (ns since 1970). The number of events
  // is counted under `counter`, durably together with the giving up.
  std::uint64_t shed_oldest(std::uint32_t destination, std::uint64_t most_bytes, std::int64_t oldest,
                            const std::string& counter);
  // So that what its files hold now is in none of them any more: begins two segments, of which the first becomes the older one
  // that is kept; until `is_renewed`, files are not written again. An errno value.
  int renew(std::uint64_t& renewal);
  // Whether all segments of before are removed: that is when every destination has passed them.
  bool is_renewed(std::uint64_t renewal);
  void forget_buffers();  // frees memory that is kept for records to come
  // A counter change that goes with the next note.
  void count(std::vector<CounterChange> counters);
  void count(const std::string& name, std::int64_t change);
  using Waiting = Queues::Waiting;
  Waiting waiting(std::uint32_t destination) const;
  // Counters and queues as of one moment: nothing is appended or passed in between.
  struct View {
    std::map<std::string, std::int64_t> counters;
    std::map<std::uint32_t, Waiting> waiting;
  };
  View view() const;
  struct Size {
    std::uint64_t bytes = 0, segments = 0, unreadable = 0, failed_syncs = 0;
  };
  Size size() const;
  // The state, counters and cursors as of the newest record that every destination has passed, with all
  // before it. Only with `track_acknowledged`.
  Snapshot acknowledged();
  void wake_readers();  // lets `read` calls return early

 private:
  Spool(Disk& disk, SpoolSettings settings);
  std::optional<Problem> recover();
  // What a sync thread does, and whoever waits; the mutex is let go of meanwhile.
  void run_sync();
  void sync() REQUIRES(mutex_);
  void trim() REQUIRES(mutex_);
  void rewrite() REQUIRES(mutex_);

  int write_note(const Changes& changes) REQUIRES(mutex_);
  bool owes_note() const REQUIRES(mutex_) { return queues_.cursors_changed() || state_.owes_note(); }
  std::uint64_t first_needed() const REQUIRES(mutex_) { return queues_.first_needed(log_.last() + 1); }
  std::uint64_t visible() const REQUIRES(mutex_) {
    return settings_.sync == SpoolSync::os ? log_.last() : log_.durable();
  }
  Snapshot snapshot() const REQUIRES(mutex_);

  const SpoolSettings settings_;
  Identity identity_;  // neither changes once it is open
  Recovery recovery_;
  mutable Mutex mutex_;
  Signal work_;      // for the sync thread
  Signal progress_;  // something became visible or durable
  Log log_ GUARDED_BY(mutex_);
  State state_ GUARDED_BY(mutex_);
  Queues queues_ GUARDED_BY(mutex_);
  std::optional<Acknowledged> acknowledged_ GUARDED_BY(mutex_);
  std::chrono::steady_clock::time_point last_note_ GUARDED_BY(mutex_){};
  std::uint64_t unreadable_ GUARDED_BY(mutex_) = 0, wakes_ GUARDED_BY(mutex_) = 0;
  bool stopping_ GUARDED_BY(mutex_) = false;
  std::thread sync_thread_;
};

}  // namespace dingle
