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
// Thread-safe. One thread appends, one reads for each destination. A thread of the spool's own syncs and
// removes what every destination has passed. The files' format and its crash cases are in format.h.
#pragma once

#include <chrono>
#include <condition_variable>
#include <cstdint>
#include <deque>
#include <map>
#include <memory>
#include <mutex>
#include <optional>
#include <string>
#include <thread>
#include <vector>

#include "core/result.h"
#include "core/time/clock.h"
#include "spool/counters.h"
#include "spool/disk.h"
#include "spool/format.h"

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

// The names of a destination's counters in the spool.
std::string counter_of_destination(std::uint32_t id, const char* what);

class Spool {
 public:
  // Recovers what is in the folder, or begins a new spool there. Locks the folder against a second process.
  // Cost: reads and checks every segment (about 1 GB a second).
  static Result<std::unique_ptr<Spool>> open(Disk& disk, SpoolSettings settings);
  ~Spool();  // syncs, and notes the cursors

  struct Identity {
    std::uint64_t spool_id = 0, epoch = 0, nonce = 0;
  };
  const Identity& identity() const { return identity_; }
  // What opening found wrong.
  struct Recovery {
    std::uint64_t damaged_records = 0;  // were on disk once, and cannot be read
    std::uint64_t damaged_events =
        0;                          // that waited in those, as far as is known; each destination's are in its
                                    // counter `damaged`
    std::uint64_t cut_records = 0;  // whole ones that stood behind a damaged one that was not known to be on
                                    // disk: cut off, since their checkpoints would hide the hole
    std::uint64_t cut_bytes = 0;    // of the torn end, and of those
    std::uint64_t last_record = 0;  // of earlier runs, that is there
    std::uint64_t missing_records = 0;  // were there when the spool was closed, at its end
    std::uint64_t damaged_headers = 0;  // of segments that were read all the same
    bool guessed_epoch = false;  // of one of those: what a destination has of it may be sent to it again
    std::vector<std::string> moved_aside;  // files in which nothing could be read; their names now
    // All of it for a person, or "" if there is nothing to say. A torn end alone is no news after a crash.
    std::string told() const;
  };
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
  std::int64_t counter(const std::string& name) const;
  // The number under which a counter is changed, made if there is none. It holds until the counter is forgotten.
  CounterId counter_id(const std::string& name);
  // Forgets the counters whose names begin so, but not those that begin as `kept` does.
  void forget_counters(const std::string& prefix, const std::string& kept);

  // ---- destinations ----
  // The id kept under this name, made if there is none; 0 if it could not be written. Names may change, ids
  // do not.
  std::uint32_t destination(const std::string& name);
  std::uint32_t pipeline(const std::string& name);
  std::uint32_t step(std::uint32_t pipeline, const std::string& name);  // one with memory
  // Gives a destination's id to another name, whose own id is forgotten. An errno value; EBUSY: events wait
  // for that other one. Nothing happens if the old name has no id.
  int rename_destination(const std::string& from, const std::string& to);
  // Sets which destinations exist; forgets the cursors, names and ids of others. The caller has seen to what
  // waits for those.
  void keep_destinations(const std::vector<std::uint32_t>& ids);
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
  std::uint64_t first_record() const;  // the oldest batch that can still be read; else the next
  // The destination is done with everything up to that record. Noted on disk within a fraction of a second;
  // the counters change with it.
  void passed(std::uint32_t destination, std::uint64_t number, Changes changes = {});
  // Gives up the oldest records that wait for the destination and are not in hand (read, but not passed),
  // until at most `most_bytes` wait, and those appended before `oldest` (ns since 1970). The number of events
  // is counted under `counter`, durably together with the giving up.
  std::uint64_t shed_oldest(std::uint32_t destination, std::uint64_t most_bytes, std::int64_t oldest,
                            const std::string& counter);
  void forget_buffers();  // frees memory that is kept for records to come
  // A counter change that goes with the next note.
  void count(std::vector<CounterChange> counters);
  void count(const std::string& name, std::int64_t change);
  struct Waiting {
    std::uint64_t appended = 0, events = 0, bytes = 0;
    std::int64_t oldest = 0;  // when the first of them was appended; 0: none waits
  };
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
  struct Segment {
    std::uint64_t number = 0;
    std::string path;
    std::shared_ptr<DiskFile> file;
    std::uint64_t last_record = 0;
    std::uint64_t reused = 0;  // bytes that the file held before
    std::uint64_t head = 0;    // bytes of its header and snapshot
  };
  bool is_full(const Segment& segment) const {
    return segment.file->size() - segment.head >= settings_.segment_size;
  }
  // A file of a segment that is done with, kept to be written again.
  struct Spare {
    std::string path;  // "": there is none
    std::shared_ptr<DiskFile> file;
    std::uint64_t bytes = 0;
  };
  struct Entry {
    std::uint64_t number = 0, epoch = 0;
    std::shared_ptr<DiskFile> file;
    std::uint64_t segment = 0;
    std::uint64_t offset = 0;
    std::uint32_t size = 0;  // with its header
    std::int64_t appended_at = 0;
    std::vector<std::pair<std::uint32_t, std::uint32_t>> destinations;
  };
  struct Destination {
    Cursor cursor;
    std::uint64_t bytes = 0;    // of records that wait for it
    std::uint64_t in_hand = 0;  // up to this record they were read
    std::vector<std::pair<std::uint64_t, std::uint64_t>>
        shed;  // ranges of records given up, behind the cursor
  };

  Spool(Disk& disk, SpoolSettings settings) : disk_(disk), settings_(std::move(settings)) {}
  std::optional<Problem> recover();
  int begin_segment();
  int write_segment_head(std::uint64_t number);
  void write_mark(std::uint64_t closed_at);
  void keep_reserve();
  std::uint64_t take_spare(const std::string& path, std::unique_ptr<DiskFile>& file);
  int write(RecordType type, std::string record, Entry* entry, bool compressed = false);
  int write_note(Changes changes);
  std::uint32_t id(const std::string& key, const std::string& next_key);
  Waiting waiting(std::uint32_t id, const Destination& d) const;
  const Entry* next(std::uint32_t destination, std::uint64_t after, std::uint32_t* events) const;
  void apply(const Changes& changes);
  void apply_shed(std::uint32_t destination, Destination& d);
  void forget_shed(std::uint32_t destination, Destination& d);
  void recover_shed();
  std::uint64_t first_needed() const;
  bool owes_note() const;
  void after_failed_sync();
  void forget_durable();
  void run_sync();
  void sync(std::unique_lock<std::mutex>& lock);
  void trim(std::unique_lock<std::mutex>& lock);
  std::uint64_t visible() const { return settings_.sync == SpoolSync::os ? last_number_ : durable_; }
  Snapshot snapshot() const;

  Disk& disk_;
  SpoolSettings settings_;
  Identity identity_;
  Recovery recovery_;
  int lock_ = -1;

  mutable std::mutex mutex_;
  std::condition_variable work_;      // for the sync thread
  std::condition_variable progress_;  // something became visible or durable
  std::vector<Segment> segments_;     // the last one is written to
  Spare spare_;
  std::deque<Entry> entries_;  // the batches of all segments, by number
  std::map<std::uint32_t, Destination> destinations_;
  std::map<std::string, std::string> state_;
  Counters counters_;
  std::uint64_t last_number_ = 0, durable_ = 0;
  std::deque<std::pair<std::uint64_t, std::string>>
      undurable_;                     // records above durable_, as written: for a failed fsync
  std::vector<std::string> buffers_;  // of records that are on disk, for the next ones
  bool syncing_ = false;  // a thread is at it; the kernel tells a failed fsync only once, so no two at a time
  std::size_t undurable_bytes_ = 0;
  Changes unsaved_;  // applied already; for the next note
  bool cursors_changed_ = false;
  std::chrono::steady_clock::time_point last_note_{};
  struct Pending {
    std::uint64_t number = 0;
    Changes changes;
    std::vector<std::pair<std::uint32_t, std::uint32_t>> destinations;
  };
  std::deque<Pending> pending_;  // not yet in acknowledged_
  Snapshot acknowledged_;
  std::uint64_t unreadable_ = 0, failed_syncs_ = 0, wakes_ = 0;
  bool rewrite_ = false;  // an fsync failed, and what it should have saved is not yet in another segment
  bool stopping_ = false;
  std::thread sync_thread_;
};

}  // namespace dingle
