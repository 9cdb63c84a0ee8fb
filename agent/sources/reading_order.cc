#include "agent/sources/reading_order.h"

#include <sys/stat.h>

#include <algorithm>
#include <cctype>
#include <tuple>

#include "core/time/instant.h"

namespace dingle {

std::string family_of(const std::string& path) {
  std::size_t end = path.rfind('/') + 1;
  while (end < path.size() && std::isalpha(static_cast<unsigned char>(path[end]))) ++end;
  return path.substr(0, end);
}

std::vector<TrackedFile*> to_catch_up(const std::vector<TrackedFile*>& files) {
  std::vector<std::tuple<bool, std::int64_t, std::size_t, std::uint64_t, TrackedFile::Id, TrackedFile*>>
      found;
  for (TrackedFile* file : files) {
    struct stat info;
    if (!file->catching_up || ::fstat(file->fd(), &info) != 0) continue;
    found.emplace_back(!file->known, info.st_mtim.tv_sec * kSecond + info.st_mtim.tv_nsec,
                       -file->checkpoint.path.size(), file->moved, file->id(), file);
  }
  std::sort(found.begin(), found.end());
  std::vector<TrackedFile*> order;
  for (const auto& f : found) order.push_back(std::get<TrackedFile*>(f));
  return order;
}

}  // namespace dingle
