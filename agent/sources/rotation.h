// What rotation does to files while they are read: which lines come first, and which file is a copy of which.
//
// Renamed: what took a file's path waits until that file is at its end after the newer one was seen to grow, and its last
// event is closed then; a program that writes on to the renamed file for a moment loses no order. Other new files of a
// family (reading_order.h) wait for those before them once. No wait is longer than kLongestWait; then it is told.
//
// Copied and truncated: a new file that agrees with all that was read of another one of its family, and beside which that one
// then shrinks, is its copy. What was read is not read again, and what the truncation took from the original is read from the
// copy, before the original's new lines. Files that merely begin alike are two: a copy is never longer than its original, and
// holds its last bytes.
#pragma once

#include <functional>
#include <map>
#include <optional>
#include <set>
#include <span>
#include <string>
#include <tuple>
#include <unordered_map>
#include <vector>

#include "agent/sources/reading_order.h"

namespace dingle {

inline constexpr std::int64_t kLongestWait = 10'000'000'000;  // ns

// What says which of two files is the older one (rotation.cc); smaller: older.
using RotationAge = std::tuple<bool, bool, std::int64_t, std::int64_t, std::uint64_t, std::ptrdiff_t,
                               std::uint64_t, TrackedFile::Id>;

class Rotation {
 public:
  struct Calls {
    // Reads the next chunk of a file up to that size. True if there may be more at once.
    std::function<bool(TrackedFile&, std::uint64_t most)> read;
    // Two files whose checkpoints changed together, to be kept: the copy and the original.
    std::function<void(const TrackedFile& copy, const TrackedFile& original)> keep;
    std::function<void(const std::string& path, const std::string& problem)> tell;  // "": it has ended
  };
  Rotation(TrackedFiles& files, Calls calls, const Clock& clock)
      : files_(files), calls_(std::move(calls)), clock_(clock) {}

  // A file was found at a path, after the first look. `former`: the file that had the path.
  void arrived(TrackedFile& file, TrackedFile* former);
  // Folders were listed: what stands before those that arrived, and of what they may be copies. What was cut is read on.
  void looked();
  // How far it may be read now; nullopt: not yet. Reads those before it.
  std::optional<std::uint64_t> turn_of(TrackedFile& file);
  // Whether what was read from its beginning is what its copies hold. If not, it was cut before any of it was read, and they
  // are files of their own with earlier lines.
  bool may_begin(TrackedFile& file, std::string_view read);
  // It was cut: a copy may be there, or come.
  void truncated(TrackedFile& file, FileCheckpoint before);
  void left(const TrackedFile& file);  // it is not read any more

 private:
  bool waits_for(TrackedFile& file, TrackedFile& other, bool renamed);
  bool waits_for_original(TrackedFile& file);
  void note_rotated();
  struct Member {  // of a family
    TrackedFile* file = nullptr;
    RotationAge age;
    bool is_new = false;  // since folders were listed before
  };
  static std::vector<std::vector<std::size_t>> relatives(const std::vector<Member>& members);
  void place(std::span<const Member* const> older, const Member& younger);
  void goes_before(TrackedFile& file, TrackedFile& other);
  void place(std::vector<Member>& members);
  void place_new();
  void note_large();
  std::vector<TrackedFile*> may_have_been_copied(TrackedFile& file);
  void compare(TrackedFile& file);
  void adopt(TrackedFile& copy, TrackedFile& original);
  TrackedFile* find(const TrackedFile::Id& id) const;

  TrackedFiles& files_;
  Calls calls_;
  const Clock& clock_;
  bool copies_ = false;  // there may be some
  // Large families, with the files by how they begin; the file's own `head` is what counts.
  std::map<std::string, std::unordered_map<std::string, std::set<TrackedFile::Id>>, std::less<>> large_;
  std::set<TrackedFile::Id> cut_;  // files of which something was lost
};

}  // namespace dingle
