// Which files a source reads: it lists folders, opens what its paths lead to, and follows what is renamed. What was found goes
// into the source's table of files and is told to its rotation.
#pragma once

#include <memory>
#include <optional>
#include <string>
#include <vector>

#include "agent/sources/folder_watch.h"
#include "agent/sources/known_files.h"
#include "agent/sources/path_patterns.h"
#include "agent/sources/rotation.h"
#include "agent/sources/source.h"

namespace dingle {

// For the thread of its source, which outlives it, as do the clock, the table and the rotation.
class FileFinder {
 public:
  FileFinder(const SourceMaking& making, const Clock& clock, TrackedFiles& files, Rotation& rotation);

  // Takes the files of earlier runs, wherever they lie now.
  void find_known();
  // Lists the folders. `first`: for the first time in this run.
  void list(bool first);
  struct News {
    bool lists = false;                // folders should be listed now
    std::vector<std::string> written;  // paths of files, and of others in their folders
  };
  // Waits for news up to that long and opens what was renamed before it was listed.
  News follow_renames(int timeout_ms, bool first);

  // Files appeared or were renamed since folders were listed.
  bool has_news() { return watch_.has_news(); }

 private:
  void follow(const FolderWatch::News& news, bool first);
  void take(std::unique_ptr<TrackedFile> file);
  void catch_up_with_joined();
  std::unique_ptr<TrackedFile> open(const std::string& path, bool first);
  std::string why_not_followed(const std::string& path) const;
  std::vector<std::string> folders_nearby() const;
  void tell_unknown(const PathPatterns::Found& found);
  std::size_t most_files() const { return static_cast<std::size_t>(options_.number("most_files")); }
  std::string about(const std::string& path) const { return "source " + name_ + ": " + path; }

  const std::string name_;
  const Options options_;
  const std::vector<std::pair<std::string, std::string>> resource_;
  const Zone zone_;
  const Clock& clock_;
  const FileAccess& access_;
  Intake& intake_;
  const SourceCounters counters_;
  const PathPatterns patterns_;
  std::optional<KnownFiles> known_files_;  // since it runs: until then another one may write the state
  TrackedFiles& files_;
  Rotation& rotation_;
  FolderWatch watch_;
  std::set<std::string> joined_;  // families that got a member
  bool unsought_ = true;          // of some files it was not looked how they began
  std::uint64_t moves_ = 0;       // renamings that were seen
  // What could not be looked at when folders were listed last: in them, and by its path.
  std::set<std::string> unknown_, unasked_;
  std::string host_;
};

}  // namespace dingle
