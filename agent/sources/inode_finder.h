// Finds files by their inodes in folders, though they may be renamed while one looks.
#pragma once

#include <cstdint>
#include <functional>
#include <map>
#include <string>

namespace dingle {

// Keeps a listing of each folder that was asked for; for a single thread.
class InodeFinder {
 public:
  enum class Found {
    here,
    unreadable,  // it has a name there, but what was opened by it was never the file
    gone,
  };
  // `is_it` opens the path and answers whether that is the file; it may be called several times, until it
  // answers true. Lists the folder again when the name leads elsewhere or there is none: a file that is
  // renamed while its folder is listed may be missing in the listing, or have the new name already.
  Found find(const std::string& folder, std::uint64_t inode,
             const std::function<bool(const std::string& path)>& is_it);

 private:
  std::map<std::string, std::map<std::uint64_t, std::string>> folders_;  // inode -> name
};

}  // namespace dingle
