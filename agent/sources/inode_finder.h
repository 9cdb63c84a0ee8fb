// Finds files by their inodes in folders, though they may be renamed while one looks.
#pragma once

#include <cstdint>
#include <functional>
#include <map>
#include <string>

#include "agent/sources/file_access.h"

namespace dingle {

// Keeps a listing of each folder that was asked for; for a single thread.
class InodeFinder {
 public:
  explicit InodeFinder(const FileAccess& access = system_file_access()) : access_(access) {}
  enum class Found {
    here,
    unreadable,  // it has a name there, but what was opened by it was never the file; or the folder cannot be listed
    gone,
  };
  // `is_it` opens the path and answers whether that is the file; it may be called several times, until it
  // answers true. Lists the folder again when the name leads elsewhere or there is none: a file that is
  // renamed while its folder is listed may be missing in the listing, or have the new name already.
  // At most so many times.
  static constexpr int kLooks = 4;
  Found find(const std::string& folder, std::uint64_t inode,
             const std::function<bool(const std::string& path)>& is_it, int looks = kLooks);

 private:
  struct Listing {
    std::map<std::uint64_t, std::string> names;  // by inode
    bool known = true;                           // the folder could be listed, or there is none
  };
  Listing list(const std::string& folder) const;
  const FileAccess& access_;
  std::map<std::string, Listing> folders_;
};

}  // namespace dingle
