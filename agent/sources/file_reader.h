// Reads followed files piece by piece: cuts what was read into lines and events, and hands them in with the file's new place.
#pragma once

#include <functional>
#include <memory>
#include <string>
#include <string_view>

#include "agent/sources/gathering.h"
#include "agent/sources/line_splitter.h"
#include "agent/sources/source.h"
#include "agent/sources/tracked_file.h"

namespace dingle {

// For the thread of its source.
class FileReader {
 public:
  struct Calls {
    // It holds other contents than were read, or fewer; it begins anew. What was read of it.
    std::function<void(TrackedFile&, FileCheckpoint)> truncated;
    // Whether what was read from the file's beginning may be handed in now: it may have been cut unnoticed. It is asked after
    // reading; if not, the file is read again later.
    std::function<bool(TrackedFile&, std::string_view read)> may_begin;
    std::function<void()> looked;  // before and after handing in, which may wait
  };
  FileReader(const SourceMaking& making, const Clock& clock, SplitSettings split, Calls calls);

  // Reads the next chunk up to that position and hands its lines in. True if there may be more at once.
  bool read(TrackedFile& file, std::uint64_t limit);
  // Hands in changes alone, behind all lines that were handed in before: noted at once, they would be ahead of those.
  void hand_in(Changes changes);
  // The engine takes no more: what is in memory is ahead of the spool and must not be used.
  bool refused() const { return gathering_.refused(); }
  // What was read and is still gathered. To be called before the source waits, or ends.
  Gathering& gathering() { return gathering_; }

 private:
  void cannot_read(TrackedFile& file, int error);
  bool skip_hole(TrackedFile& file, std::string_view chunk);
  bool hand_in(TrackedFile& file, std::shared_ptr<LineBuffer> buffer, Split s);
  std::string key(const TrackedFile& file) const { return "file/" + name_ + "/" + file.key(); }

  const std::string name_;
  const std::int64_t unfinished_after_, join_wait_;  // ns
  const Clock& clock_;
  Intake& intake_;
  const SourceCounters counters_;
  const SplitSettings split_;
  const Calls calls_;
  Gathering gathering_;
};

}  // namespace dingle
