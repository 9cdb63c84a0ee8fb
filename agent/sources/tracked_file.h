// One file that is being read: its identity, its place, and what lets that survive restarts and rotation.
//
// A file's life is one stream, whatever it is called: device and inode say which file it is, and rungs (a
// position and a hash of the 256 bytes before it) say that it still holds what was read. They are checked
// before anything is read.
#pragma once

#include <cstdint>
#include <memory>
#include <optional>
#include <string>
#include <string_view>
#include <vector>

#include "agent/sources/folder_watch.h"
#include "agent/sources/source.h"
#include "core/rung.h"

namespace dingle {

// A file that no path leads to any more is left when nothing was added for that long, in ns.
inline constexpr std::int64_t kCloseAfter = 5'000'000'000;

inline constexpr std::size_t kHead = 256;
inline constexpr std::size_t kFirst = 64;
inline constexpr std::uint64_t kFirstGrowth = 1024, kGrowth = 4;

inline constexpr std::size_t kMostRungs = 10;  // that are kept of a file

// What the spool keeps of a file, beside its device and inode.
struct FileCheckpoint {
  std::string path;  // where it was last seen
  std::uint64_t stream = 0;
  std::uint64_t base = 0;      // position in the stream of the file's first byte
  std::uint64_t position = 0;  // in the file: all before it is in the spool
  std::uint64_t begun = 0;     // where reading began: not 0 with `begin: end`
  bool skipping = false;       // within a line that was cut
  std::vector<Rung> rungs;     // ascending; positions in the file
  std::vector<Rung>
      growth;  // at 1 KiB and at four times the one before: a copy of its beginning is known by them
  std::vector<Rung> all_rungs() const;  // of both, ascending
  std::string encode() const;
  static std::optional<FileCheckpoint> decode(std::string_view bytes);
};

class TrackedFile {
 public:
  TrackedFile(int fd, std::uint64_t device, std::uint64_t inode,
              const FileAccess& access = system_file_access())
      : access_(access), fd_(fd), device_(device), inode_(inode) {}
  TrackedFile(const TrackedFile&) = delete;
  TrackedFile& operator=(const TrackedFile&) = delete;
  ~TrackedFile();

  // Goes back to the highest rung that still holds. `no`: none does, then it is a new stream. `unknown`: it cannot be read now,
  // and nothing was changed. `as_known` gets what was known of it, `detailed`, if the newest does not hold.
  enum class Holds { yes, no, unknown };
  Holds verify(FileCheckpoint* as_known = nullptr);
  // Whether what was read last is still there: what was read behind it a moment ago then belongs to it.
  bool holds_place() const;
  // After the bytes before `position` became events. `read`: those bytes, from the place until now; the file may hold others
  // by now. Without them the file is asked.
  void advance(std::uint64_t position, std::string_view read = {});
  // Begins a new stream at the file's beginning.
  void restart();

  std::string key() const { return std::to_string(device_) + ":" + std::to_string(inode_); }
  int fd() const { return fd_; }
  std::uint64_t device() const { return device_; }
  std::uint64_t inode() const { return inode_; }

  FileCheckpoint checkpoint;
  std::shared_ptr<const Resource> resource;
  std::string renumbered_from;     // its key in an earlier run, if that was another
  bool attached = true;            // a path of the source leads to it
  std::string family;              // reading_order.h
  bool catching_up = true;         // to be read to its end before newer ones of its family
  bool known = false;              // it was read to its end, or by an earlier run
  std::uint64_t seen_size = 0;     // at the last look
  bool grew = false;               // then
  std::int64_t seen_modified = 0;  // ns; its time of change then
  // A quiet file is not looked at until it is heard of (folder_watch.h), or folders are listed.
  bool asleep = false;
  bool slept = false;              // until the last look
  bool heard = false;              // the system tells when it is written to
  bool unheard = false;            // it grew while it slept, and nobody told: it sleeps no more
  std::uint64_t waiting_size = 0;  // the size at which no whole line or event was left; 0: unknown
  // Of the steady clock, in ns; here and below.
  std::int64_t changed_at = 0;   // when it last grew, or was found
  std::int64_t modified_at = 0;  // when its time of change was seen to be another
  std::int64_t detached_at = 0;

  // ---- rotation (rotation.h) ----
  using Id = std::pair<std::uint64_t, std::uint64_t>;  // device and inode
  Id id() const { return {device_, inode_}; }
  struct Before {
    Id id;
    bool renamed =
        false;  // it had this file's path, or was copied into by it: nothing comes behind it but by mistake
  };
  std::vector<Before> before;  // files with earlier lines
  std::string former;          // the path that it had before the last one, or ""
  std::int64_t grew_at = 0;    // when it was first seen to have lines while others stand before it
  bool closing = false;        // what took its place has grown: its last event is whole
  bool appeared = false;       // while its source ran
  std::int64_t born = 0;       // ns since 1970, as coarse as its clock; 0: the file system does not tell
  FolderWatch::Beginning beginning;
  bool sought = false;                 // that beginning
  std::uint64_t moved = 0;             // counts up over the renamings that were seen; 0: none of it was
  std::optional<FileCheckpoint> lost;  // what was read of it before it was cut; a copy may have the rest
  std::int64_t lost_at = 0;
  std::string first,
      lost_first;  // up to kFirst bytes that were read from its beginning; of what was lost. "": not known
  bool just_cut = false;        // folders were not listed since
  std::vector<Id> may_copy;     // the files that it agrees with so far
  std::int64_t held_since = 0;  // since when it is not read for that
  bool compared = false;        // with the others of its family
  std::string head;             // its first bytes when it was compared, up to kHead of them; "": not known
  bool rotated = false;         // its name says so: gate.log.1 beside gate.log
  bool placed = false;          // `before` is known

  bool still_agrees() const {  // with what was read of it
    return size_now() >= checkpoint.position && agrees_with(checkpoint);
  }
  // Its checkpoint with more rungs, closer together, of what was read last. Only for comparing, not to be kept.
  FileCheckpoint detailed() const;
  // Whether it holds what the checkpoint says was read, as far as it reaches; not if that is known only of its beginning.
  bool agrees_with(const FileCheckpoint& checkpoint) const;
  // Whether nothing is known of it that differs.
  bool may_agree_with(const FileCheckpoint& checkpoint) const;
  std::uint64_t size_now() const;  // 0 if it cannot be told
  ssize_t read_at(std::uint64_t position, char* to, std::size_t size) const {
    return access_.read(fd_, to, size, position);
  }
  bool unreadable = false;  // at the last look

 private:
  // Up to where its first `size` bytes hold what the checkpoint says; nullopt if they do not.
  std::optional<std::uint64_t> agreement(const FileCheckpoint& checkpoint, std::uint64_t size) const;
  std::optional<std::uint64_t> hash_before(std::uint64_t position, std::string* keep = nullptr) const;
  std::optional<std::uint64_t> hash_read(std::uint64_t position, std::string_view read) const;
  std::vector<Rung> fine_;            // several in each piece that was read
  std::string tail_;                  // up to 256 bytes before the place, as they were read; may be fewer
  mutable bool look_failed_ = false;  // some bytes could not be read, since `verify` asked
  const FileAccess& access_;
  int fd_;
  std::uint64_t device_, inode_;
};

std::int64_t birth_of(int fd);  // ns since 1970; 0: the file system does not tell
std::uint64_t new_stream();     // random, never 0
// The stream of a file that a spool does not know yet: by its device, inode and time of birth, so that copies
// of the spool give its events the same ids. Random where the file system keeps no times of birth: an inode
// alone may have been another file's.
std::uint64_t stream_of_file(int fd, std::uint64_t spool, std::string_view source);

}  // namespace dingle
