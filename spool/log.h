// The log of a spool: its segments on disk, what is written to them and made durable, and what an opening finds there. The
// format and its crash cases are in format.h.
//
// No lock of its own: the spool's is held in all calls but those that say otherwise. Nothing else writes or syncs these files.
#pragma once

#include <cstdint>
#include <deque>
#include <memory>
#include <optional>
#include <string>
#include <string_view>
#include <utility>
#include <vector>

#include "core/result.h"
#include "spool/disk.h"
#include "spool/format.h"

namespace dingle {

class Log {
 public:
  struct Settings {
    std::string folder;
    std::uint64_t segment_size = 0;  // bytes behind its snapshot after which a segment is full
    bool durable = true;  // false: what is written is left to the operating system, and no copy of it kept
    bool in_memory = false;
  };
  struct Identity {
    std::uint64_t spool_id = 0, epoch = 0, nonce = 0;
  };
  // Where a record stands.
  struct Place {
    std::shared_ptr<DiskFile> file;
    std::uint64_t segment = 0, offset = 0;
    std::uint32_t size = 0;  // with its header
  };
  // What an opening found wrong.
  struct Recovery {
    std::uint64_t damaged_records = 0;  // were on disk once, and cannot be read
    std::vector<MissingRecords> missing;
    bool lost_state = false;       // no snapshot can be read: all of the state that records do not repeat
    bool passes_over_cut = false;  // some of them are of records that an earlier opening cut off
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
  // An intact record.
  struct Record {
    std::uint64_t number = 0, epoch = 0;
    RecordType type = RecordType::batch;
    Place place;
  };

  Log(Disk& disk, Settings settings) : disk_(disk), settings_(std::move(settings)) {}
  ~Log();

  // ---- opening: first `read`, then `begin`; no lock is needed ----
  // Reads and checks all segments, and cuts off what is torn. `records`: those that are there, by number.
  std::optional<Problem> read(std::vector<Record>& records);
  // The payload of one; a view into `bytes`.
  static std::string_view payload(const Record& record, std::string& bytes);
  // Makes all of it durable, and begins a segment with that snapshot. Where the disk is full, segments before record
  // `needed` make room. Answers up to which record they are gone (0: none).
  Result<std::uint64_t> begin(Snapshot snapshot, std::uint64_t needed);
  const Recovery& recovery() const { return recovery_; }
  Recovery& recovery() { return recovery_; }
  bool is_new() const { return new_; }
  const Identity& identity() const { return identity_; }

  // ---- writing ----
  std::uint64_t last() const { return last_; }        // record
  std::uint64_t durable() const { return durable_; }  // up to this record
  // Writes the record with the next number; its payload stands behind room for its header. An errno value.
  int write(RecordType type, std::string record, bool compressed = false, Place* place = nullptr);
  bool full() const {
    return segments_.back().file->size() - segments_.back().head >= settings_.segment_size;
  }
  // Makes the full segment durable, and begins the next. `lost`: the disk failed, and `rewrite` is to be called.
  int begin_next(Snapshot snapshot, bool& lost);
  // Memory of a record that is on disk, for the next one.
  std::string buffer();
  void forget_buffers();
  std::size_t undurable_bytes() const { return undurable_bytes_; }

  // ---- making it durable ----
  // The kernel tells a failed fsync only once, so there are never two at a time.
  struct Sync {
    std::shared_ptr<DiskFile> file;
    std::uint64_t target = 0;
    bool fails = false;  // it is known before
    int run() const;     // without the lock; an errno value
  };
  bool syncing() const { return syncing_; }
  Sync begin_sync();
  bool end_sync(const Sync& sync, int error);  // whether it is durable now
  // What a sync that failed should have saved may be gone: `rewrite` is to be called.
  bool lost(const Sync& sync) const { return settings_.durable && sync.file == segments_.back().file; }
  // One that nobody else needs to know of, with the lock: what is there is durable if it answers true.
  bool sync_now();
  // All that is not known to be durable is written once more, to a new segment with that snapshot.
  struct Rewritten {
    bool began = false;  // the snapshot is in the log
    bool done = false;   // all of it is durable again; else it is tried with the next sync
    std::vector<std::pair<std::uint64_t, Place>> moved;  // records
  };
  Rewritten rewrite(Snapshot snapshot);
  bool rewriting() const { return rewrite_; }

  // ---- removing ----
  // How many of the oldest segments hold nothing from that record on. One of them stays while there is room, for its snapshot: the
  // newest one may be damaged.
  std::size_t removable(std::uint64_t needed) const;
  struct Removal {
    Disk& disk;
    std::string folder;
    std::uint64_t last_record = 0;
    std::vector<std::string> paths;
    std::shared_ptr<DiskFile> newest;  // of them
    std::uint64_t newest_bytes = 0;
    bool keep = false;        // the newest one, to be written again
    std::size_t reserve = 0;  // bytes to be kept for a segment's head; 0: they are there
    void run();               // without the lock
  };
  // `now`: of this moment, if `lacks_reserve`.
  Removal remove(std::size_t segments, const std::optional<Snapshot>& now);
  bool lacks_reserve() const { return !reserved_; }
  void removed(Removal removal);

  // Gives up the spare, and keeps none while it is set: what the files held may not stay anywhere.
  void keep_no_spare(bool none);
  std::uint64_t oldest_segment() const { return segments_.front().number; }
  std::uint64_t newest_segment() const { return segments_.back().number; }

  void close();  // notes that the log ends here
  struct Size {
    std::uint64_t bytes = 0, segments = 0, failed_syncs = 0;
  };
  Size size() const;

 private:
  struct Segment {
    std::uint64_t number = 0;
    std::string path;
    std::shared_ptr<DiskFile> file;
    std::uint64_t last_record = 0;
    std::uint64_t reused = 0;  // bytes that the file held before
    std::uint64_t head = 0;    // bytes of its header and snapshot
  };
  // A file of a segment that is done with, kept to be written again.
  struct Spare {
    std::string path;  // "": there is none
    std::shared_ptr<DiskFile> file;
    std::uint64_t bytes = 0;
  };
  int begin_segment(Snapshot snapshot);
  int write_segment_head(std::uint64_t number, const Snapshot& snapshot);
  void write_mark(std::uint64_t closed_at);
  std::uint64_t take_spare(const std::string& path, std::unique_ptr<DiskFile>& file);
  void forget_durable();
  bool give_up_spare();

  Disk& disk_;
  const Settings settings_;
  Identity identity_;
  Recovery recovery_;
  bool new_ = false;
  int lock_ = -1;
  std::vector<Segment> segments_;  // the last one is written to
  Spare spare_;
  std::uint64_t last_ = 0, durable_ = 0;
  std::deque<std::pair<std::uint64_t, std::string>>
      undurable_;                     // records above durable_, as written: for a failed fsync
  std::vector<std::string> buffers_;  // of records that are on disk, for the next ones
  std::size_t undurable_bytes_ = 0;
  bool syncing_ = false;
  bool rewrite_ = false;  // an fsync failed, and what it should have saved is not yet in another segment
  std::uint64_t failed_syncs_ = 0;
  bool reserved_ = false;  // room for a segment's head
  bool no_spare_ = false;
  bool short_of_room_ = false;  // since the last thing that was to be written
};

}  // namespace dingle
