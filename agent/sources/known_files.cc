#include "agent/sources/known_files.h"

#include <sys/stat.h>

#include <filesystem>
#include <set>

#include "agent/sources/inode_finder.h"

namespace dingle {
namespace {

std::string device_of(const std::string& id) { return id.substr(0, id.find(':')); }
std::uint64_t inode_of(const std::string& id) {
  return std::strtoull(id.c_str() + id.find(':') + 1, nullptr, 10);
}

std::string device_of_folder(const std::string& folder) {
  struct stat info;
  return ::stat(folder.c_str(), &info) == 0 ? std::to_string(info.st_dev) : "";
}

std::set<std::string> folders_of(const std::string& path) {
  std::error_code dangling;
  const std::string target = std::filesystem::weakly_canonical(path, dangling).string();
  return {path.substr(0, path.rfind('/') + 1), target.substr(0, target.rfind('/') + 1)};
}

bool goes_on(TrackedFile& file, const FileCheckpoint& kept) {
  file.checkpoint = kept;
  return file.seen_size >= kept.position && file.verify();
}

}  // namespace

KnownFiles::KnownFiles(Spool& spool, std::string prefix) : spool_(spool), prefix_(std::move(prefix)) {
  for (const auto& [key, bytes] : spool_.state_with_prefix(prefix_))
    if (auto kept = FileCheckpoint::decode(bytes)) {
      const std::string id = key.substr(prefix_.size());
      earlier_.emplace(inode_of(id), Earlier{id, *kept});
    }
}

void KnownFiles::forget(const std::string& id) {
  std::erase_if(earlier_, [&](const auto& e) { return e.second.id == id; });
}

KnownFiles::Known KnownFiles::recognise(TrackedFile& file) {
  const auto bytes = spool_.state(prefix_ + file.key());
  const auto kept = bytes ? FileCheckpoint::decode(*bytes) : std::nullopt;
  if (kept && goes_on(file, *kept)) {
    forget(file.key());
    return Known::yes;
  }
  const auto [begin, end] = earlier_.equal_range(file.inode());
  for (auto it = begin; it != end; ++it) {
    const auto& [id, earlier] = it->second;
    if (id == file.key() || earlier.position == 0 || !goes_on(file, earlier) ||
        file.checkpoint.position != earlier.position)
      continue;
    file.renumbered_from = id;
    spool_.note({{{prefix_ + id, "", true}, {prefix_ + file.key(), file.checkpoint.encode(), false}}, {}});
    earlier_.erase(it);
    return Known::yes;
  }
  if (kept) file.lost = *kept;
  return kept ? Known::replaced : Known::no;
}

std::vector<std::unique_ptr<TrackedFile>> KnownFiles::find(const Open& open, const MayBeRead& may_be_read) {
  std::vector<Earlier> all;
  for (const auto& [inode, earlier] : earlier_) all.push_back(earlier);
  InodeFinder finder;
  std::vector<StateChange> gone;
  std::vector<std::unique_ptr<TrackedFile>> files;
  for (const auto& [id, kept] : all) {
    std::unique_ptr<TrackedFile> file;
    if (kept.position == 0) continue;  // nothing was read of it
    bool forbidden = false;
    const auto is_it = [&, &id = id, &kept = kept](const std::string& path) {
      if (!may_be_read(path, kept)) return forbidden = true, false;
      file = open(path);
      const bool same = file && file->known && (file->key() == id || file->renumbered_from == id);
      if (!same) file.reset();
      return same;
    };
    bool found = is_it(kept.path), listed = false, unreadable = false;
    for (const std::string& folder : folders_of(kept.path)) {
      if (found) break;
      const auto looked = finder.find(folder, inode_of(id), is_it);
      found = looked == InodeFinder::Found::here;
      unreadable |= looked == InodeFinder::Found::unreadable;
      listed |= device_of_folder(folder) == device_of(id);
    }
    if (found) {
      files.push_back(std::move(file));
    } else if (listed && (!unreadable || forbidden)) {
      gone.push_back({prefix_ + id, "", true});
      forget(id);
    }
  }
  if (!gone.empty()) spool_.note({gone, {}});
  return files;
}

}  // namespace dingle
