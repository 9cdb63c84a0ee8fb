// The indexed store of one destination: a folder of index files.
//
// An index's name is a file's name: letters, digits and . _ - only, at most 120 bytes, not starting with a
// dot. Thread-safe.
#pragma once

#include <atomic>
#include <condition_variable>
#include <list>
#include <map>
#include <memory>
#include <mutex>
#include <optional>
#include <string>
#include <vector>

#include "core/result.h"
#include "store/index_file.h"
#include "store/moves.h"
#include "store/removals.h"
#include "store/roster.h"

namespace dingle {

// Makes a valid index name of any text: other bytes become `_`, long ones are cut. "" becomes "unnamed".
std::string index_name(std::string_view text);
bool is_index_name(std::string_view text);

class Store {
 public:
  // The one store of this process for the folder: whoever writes and whoever deletes must share it. The
  // folder is made, mode 0700, when the first index is.
  static std::shared_ptr<Store> at(const std::string& folder);

  struct Outcome {
    enum class Form { committed, retry, refused } form = Form::committed;
    std::uint64_t stored = 0, known = 0;
    std::string reason;
  };
  // Commits the events to the index; durable when it answers `committed`. What several threads bring to one
  // index at the same time goes into one transaction.
  Outcome commit(const std::string& index, const Sender& sender, std::span<const StoredEvent> events);
  // What was committed here of the sender, to indexes that are there or were removed. The first call looks at all indexes.
  // A problem while one of them cannot be read; of a damaged one nothing is known.
  Result<Held> held(const Sender& sender);
  // Takes events out of an index for good: those that are there. How many; a problem if it cannot be written.
  Result<std::uint64_t> take_out(const std::string& index, std::span<const IndexFile::Gone> gone);
  // Leaves nothing of what was taken out or removed in any of its files. False: one of them is being read, or cannot be written.
  bool scrub();
  Moves& moves() const { return moves_; }
  // How often stored events were replaced or taken out since the start: who reads page after page may have read some twice.
  std::uint64_t changes() const { return changes_; }
  // Merges small blocks of the indexes written since the last call.
  void merge();
  void forget_caches();  // frees memory that is kept for commits to come

  std::vector<IndexInfo> indexes() const;  // by name; damaged files have no events
  // False if there is no such index, or it could not be removed. It is noted with `why`. One that is missing is missed no longer.
  bool remove(const std::string& index, const std::string& why);
  std::vector<Removed> removed() const;  // the newest kMostRemovals, the oldest first
  // Removes whole indexes: those whose last event *and* last arrival are older than `oldest` (ns since 1970; 0: none), so
  // that what was imported today stays; then the oldest ones until the rest has at most `most_bytes` (0: no limit). An
  // event time more than a day after its arrival says nothing: then the arrival counts.
  std::vector<Removed> retain(std::int64_t oldest, std::uint64_t most_bytes);

  // What blocks were written with, ever, and what became of it: it is there, was taken out, or went with its index.
  struct Kept {
    std::uint64_t stored = 0, accounted = 0;
  };
  std::optional<Kept> kept();  // nothing while an index cannot be read; costs opening each
  // Which index `retain` will take soon for want of room, though events came to it not long ago; or "".
  std::string soon_gone(std::uint64_t most_bytes) const;

  // Up to when an index holds something, by which its age counts: ns since 1970.
  static std::int64_t newest_in(const IndexInfo& info);

  std::string path_of(const std::string& index) const { return folder_ + "/" + index + ".index"; }
  std::vector<std::string> names() const;
  // Indexes that were made here, were not removed by this program, and are not there: somebody else took them away.
  std::vector<std::string> missing() const;
  const std::string& folder() const { return folder_; }
  std::uint64_t transactions() const { return transactions_; }  // since the start

 private:
  explicit Store(std::string folder);
  IndexFile& open(const std::string& index);
  std::string folder_;
  mutable std::mutex mutex_;  // guards the open files; held while committing
  mutable std::mutex roster_mutex_;
  mutable Roster roster_;
  struct Open {
    std::string name;
    std::unique_ptr<IndexFile> file;
    bool written = false;
  };
  std::list<Open> open_;  // most recently used first
  BlockEncoder encoder_;
  // Events whose place others took, in other indexes, are taken out there. False: some could not be, and are still listed. The
  // folder's file `moving` says that some may be listed, over the life of the process.
  bool complete(const std::string& index);
  bool complete_all();
  bool unfinished_ = false;  // some are listed in an index
  mutable Moves moves_;
  // What waits to be committed.
  struct Pending {
    const std::string* index;
    IndexFile::Request request;
    Outcome outcome;
    bool done = false;
  };
  void commit(const std::vector<Pending*>& together);
  std::mutex queue_mutex_;  // guards these; never taken while `mutex_` is held
  std::condition_variable queue_moved_;
  std::vector<Pending*> queue_;
  bool committing_ = false;  // a thread is at it, for all
  std::atomic<std::uint64_t> transactions_{0}, changes_{0};
  // What is known of indexes that were removed stands in the file `held` beside them, a sender a line; that of the one
  // which is being removed by itself, so that it counts once however a crash comes between.
  struct Removal {
    HeldBySender before, of_index;
    std::string index;
  };
  HeldBySender& held_by_sender();
  Removal read_removed() const;
  bool write_removed(const Removal& removal) const;
  std::optional<HeldBySender> held_;
};

}  // namespace dingle
