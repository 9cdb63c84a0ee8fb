#include "agent/sources/inode_finder.h"

namespace dingle {

InodeFinder::Listing InodeFinder::list(const std::string& folder) const {
  Listing listing;
  if (folder.empty()) return listing;
  std::vector<FileAccess::Entry> entries;
  const int error = access_.list(folder, entries);
  listing.known = error == 0 || is_absent(error);
  for (FileAccess::Entry& entry : entries) listing.names.insert_or_assign(entry.inode, std::move(entry.name));
  return listing;
}

InodeFinder::Found InodeFinder::find(const std::string& folder, std::uint64_t inode,
                                     const std::function<bool(const std::string& path)>& is_it, int looks) {
  auto [listed, fresh] = folders_.try_emplace(folder);
  if (fresh) listed->second = list(folder);
  for (int look = 1;; ++look) {
    const auto name = listed->second.names.find(inode);
    const bool has_name = name != listed->second.names.end();
    if (has_name && is_it(folder + name->second)) return Found::here;
    if (look == looks || !listed->second.known)
      return has_name || !listed->second.known ? Found::unreadable : Found::gone;
    listed->second = list(folder);
  }
}

}  // namespace dingle
