#include "agent/sources/inode_finder.h"

#include <dirent.h>

namespace dingle {
namespace {

constexpr int kLooks = 4;

std::map<std::uint64_t, std::string> names_by_inode(const std::string& folder) {
  std::map<std::uint64_t, std::string> names;
  DIR* dir = folder.empty() ? nullptr : ::opendir(folder.c_str());
  if (dir == nullptr) return names;
  while (const dirent* entry = ::readdir(dir)) names.insert_or_assign(entry->d_ino, entry->d_name);
  ::closedir(dir);
  return names;
}

}  // namespace

InodeFinder::Found InodeFinder::find(const std::string& folder, std::uint64_t inode,
                                     const std::function<bool(const std::string& path)>& is_it) {
  auto [listed, fresh] = folders_.try_emplace(folder);
  if (fresh) listed->second = names_by_inode(folder);
  for (int look = 1;; ++look) {
    const auto name = listed->second.find(inode);
    if (name != listed->second.end() && is_it(folder + name->second)) return Found::here;
    if (look == kLooks) return name == listed->second.end() ? Found::gone : Found::unreadable;
    listed->second = names_by_inode(folder);
  }
}

}  // namespace dingle
