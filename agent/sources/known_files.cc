#include "agent/sources/known_files.h"

#include <sys/stat.h>

#include <filesystem>
#include <optional>
#include <set>

#include "agent/sources/inode_finder.h"
#include "agent/sources/read_files.h"

namespace dingle {
namespace {

std::string device_of(const std::string& id) { return id.substr(0, id.find(':')); }
std::uint64_t inode_of(const std::string& id) {
  return std::strtoull(id.c_str() + id.find(':') + 1, nullptr, 10);
}

std::set<std::string> folders_of(const std::string& path) {
  std::error_code dangling;
  const std::string target = std::filesystem::weakly_canonical(path, dangling).string();
  return {path.substr(0, path.rfind('/') + 1), target.substr(0, target.rfind('/') + 1)};
}

using Holds = TrackedFile::Holds;

Holds goes_on(TrackedFile& file, const FileCheckpoint& kept) {
  file.checkpoint = kept;
  return file.seen_size < kept.position ? Holds::no : file.verify();
}

}  // namespace

KnownFiles::KnownFiles(Spool& spool, std::string source, const FileAccess& access)
    : spool_(spool), source_(std::move(source)), prefix_("file/" + source_ + "/"), access_(access) {
  for (const auto& [key, bytes] : spool_.state_with_prefix(prefix_))
    if (auto kept = FileCheckpoint::decode(bytes)) {
      const std::string id = key.substr(prefix_.size());
      earlier_.emplace(inode_of(id), Earlier{id, *kept});
    }
}

bool KnownFiles::note_read(const FileCheckpoint& read) {
  auto changes = dingle::note_read(spool_, source_, read);
  return changes.empty() || spool_.note({std::move(changes), {}}) == 0;
}

void KnownFiles::forget(const std::string& id) {
  std::erase_if(earlier_, [&](const auto& e) { return e.second.id == id; });
}

KnownFiles::Known KnownFiles::recognise(TrackedFile& file) {
  const auto bytes = spool_.state(prefix_ + file.key());
  const auto kept = bytes ? FileCheckpoint::decode(*bytes) : std::nullopt;
  const Holds holds = kept ? goes_on(file, *kept) : Holds::no;
  if (holds == Holds::unknown) return Known::unknown;
  if (holds == Holds::yes) {
    forget(file.key());
    return Known::yes;
  }
  const auto [begin, end] = earlier_.equal_range(file.inode());
  for (auto it = begin; it != end; ++it) {
    const auto& [id, earlier] = it->second;
    if (id == file.key() || earlier.position == 0) continue;
    const Holds renumbered = goes_on(file, earlier);
    if (renumbered == Holds::unknown) return Known::unknown;
    if (renumbered == Holds::no || file.checkpoint.position != earlier.position) continue;
    file.renumbered_from = id;
    spool_.note({{{prefix_ + id, "", true}, {prefix_ + file.key(), file.checkpoint.encode(), false}}, {}});
    earlier_.erase(it);
    return Known::yes;
  }
  if (kept) file.lost = *kept, note_read(*kept);
  return kept ? Known::replaced : Known::no;
}

KnownFiles::Found KnownFiles::find(const Open& open, const MayBeRead& may_be_read, const Folders& elsewhere) {
  std::vector<Earlier> all;
  for (const auto& [inode, earlier] : earlier_) all.push_back(earlier);
  InodeFinder finder(access_);
  std::vector<StateChange> gone;
  std::optional<std::vector<std::string>> other_folders;
  Found found;
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
    bool here = is_it(kept.path), listed = false, unreadable = false;
    const auto look_in = [&, &id = id](const std::string& folder, int looks) {
      if (here) return;
      const auto looked = finder.find(folder, inode_of(id), is_it, looks);
      here = looked == InodeFinder::Found::here;
      unreadable = unreadable || looked == InodeFinder::Found::unreadable;
    };
    for (const std::string& folder : folders_of(kept.path)) {
      look_in(folder, InodeFinder::kLooks);
      struct stat info;
      const int error = access_.status(folder, info);
      listed = listed || (error == 0 && std::to_string(info.st_dev) == device_of(id));
      unreadable = unreadable || (error != 0 && !is_absent(error));
    }
    if (!here && !forbidden) {
      if (!other_folders) other_folders = elsewhere();
      for (const std::string& folder : *other_folders) look_in(folder, 1);
    }
    if (here) {
      found.files.push_back(std::move(file));
    } else if (listed && (!unreadable || forbidden)) {
      if (note_read(kept)) gone.push_back({prefix_ + id, "", true});  // else at the next start
      if (!forbidden) found.gone.push_back(kept);
      forget(id);
    }
  }
  if (!gone.empty()) spool_.note({gone, {}});
  return found;
}

}  // namespace dingle
