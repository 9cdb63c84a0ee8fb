#include "agent/sources/file_finder.h"

#include <dirent.h>
#include <fmt/format.h>
#include <sys/stat.h>
#include <unistd.h>

#include <cstring>
#include <filesystem>
#include <map>
#include <set>

#include "core/time/instant.h"

namespace dingle {
namespace {

std::vector<std::string> excluded(const Options& options) {
  std::vector<std::string> all{"*.gz", "*.zst", "*.xz", "*.bz2"};
  for (const std::string& pattern : options.texts("exclude")) all.push_back(pattern);
  return all;
}

bool is_own_output(const struct stat& info) {
  for (int fd : {STDOUT_FILENO, STDERR_FILENO}) {
    struct stat own;
    if (::fstat(fd, &own) == 0 && own.st_dev == info.st_dev && own.st_ino == info.st_ino) return true;
  }
  return false;
}

}  // namespace

FileFinder::FileFinder(const SourceMaking& m, const Clock& clock, TrackedFiles& files, Rotation& rotation)
    : name_(m.settings.name),
      options_(m.settings.options),
      resource_(m.settings.resource),
      zone_(m.settings.zone),
      clock_(clock),
      access_(m.files),
      intake_(m.intake),
      counters_(m.intake.spool(), m.settings.name),
      patterns_(options_.texts("paths"), excluded(options_)),
      files_(files),
      rotation_(rotation) {
  char host[256] = "";
  if (::gethostname(host, sizeof host - 1) == 0) host_ = host;
}

void FileFinder::find_known() {
  known_files_.emplace(intake_.spool(), name_, access_);
  const auto open_it = [this](const std::string& path) { return open(path, false); };
  const auto may_be_read = [this](const std::string& path, const FileCheckpoint& kept) {
    return patterns_.matches(path) || (patterns_.matches(kept.path) && !patterns_.is_excluded(path) &&
                                       why_not_followed(kept.path).empty());
  };
  KnownFiles::Found found = known_files_->find(open_it, may_be_read, [this] { return folders_nearby(); });
  for (auto& file : found.files) {
    file->attached = false;
    file->detached_at = clock_.steady();
    take(std::move(file));
  }
  counters_.count("vanished", found.gone.size());
  if (!found.gone.empty())
    intake_.problems().note(
        about("vanished"),
        fmt::format(
            "{} that {} read before this start {} gone, {} is one: what was written to {} behind byte "
            "{}, if anything, is lost",
            found.gone.size() == 1 ? "a file" : std::to_string(found.gone.size()) + " files",
            found.gone.size() == 1 ? "was" : "were", found.gone.size() == 1 ? "is" : "are",
            found.gone.front().path, found.gone.size() == 1 ? "it" : "that one",
            found.gone.front().position));
  catch_up_with_joined();
}

// Where rotation may have put a file: the folders that the paths lead through, those in them and those beside them.
std::vector<std::string> FileFinder::folders_nearby() const {
  constexpr std::size_t kMost = 1000;
  std::vector<std::string> all;
  std::set<std::string> known;
  const auto add = [&](const std::string& folder) {
    if (all.size() < kMost && known.insert(folder).second) all.push_back(folder);
  };
  const PathPatterns::Found found = patterns_.find(access_);
  for (const std::string& folder : found.folders) add(folder);
  for (const std::string& folder : found.folders) {
    if (folder.size() < 2) continue;
    const std::string above = folder.substr(0, folder.rfind('/', folder.size() - 2) + 1);
    for (const std::string& of : {folder, above}) {
      if (of.empty() || of == "/") continue;  // too much may lie there
      add(of);
      std::vector<FileAccess::Entry> entries;
      access_.list(of, entries);
      for (const FileAccess::Entry& e : entries)
        if (e.kind == DT_DIR) add(of + e.name + "/");
    }
  }
  return all;
}

// A file that got its name and lost it again before folders were listed is opened by its new name.
FileFinder::News FileFinder::follow_renames(int timeout_ms, bool first) {
  FolderWatch::News news = watch_.wait(timeout_ms);
  if (news.any || std::exchange(unsought_, false)) follow(news, first);
  return {news.any, std::move(news.written)};
}

void FileFinder::follow(const FolderWatch::News& news, bool first) {
  const auto leads_to = [](const std::string& path, const TrackedFile& file) {
    struct stat info;
    return ::stat(path.c_str(), &info) == 0 && TrackedFile::Id(info.st_dev, info.st_ino) == file.id();
  };
  for (const auto& [id, file] : files_) {
    if (file->beginning.order != 0 || !file->appeared) continue;
    if (std::exchange(file->sought, true) && !news.any) continue;  // nothing new is known of where it began
    std::string path = file->checkpoint.path;
    for (const auto& [from, to] : news.renamed)
      if (from == path && !leads_to(path, *file) && leads_to(to, *file)) path = to;
    if (leads_to(path, *file)) file->beginning = watch_.beginning_of(path);
  }
  for (const auto& [from, to] : news.renamed) {
    ++moves_;
    struct stat info;
    if (!patterns_.matches(from) || ::stat(to.c_str(), &info) != 0) continue;
    if (const auto known = files_.find({info.st_dev, info.st_ino}); known != files_.end()) {
      known->second->moved = moves_;
      continue;
    }
    if (files_.size() >= most_files()) continue;
    if (auto file = open(to, first)) {
      file->moved = moves_;
      file->beginning = watch_.beginning_of(to);
      file->attached = false;
      file->former = from;
      file->detached_at = clock_.steady();
      file->family = family_of(from);
      rotation_.arrived(*file, nullptr);
      take(std::move(file));
    }
  }
  catch_up_with_joined();
}

void FileFinder::take(std::unique_ptr<TrackedFile> file) {
  if (file->lost) counters_.count("replaced");
  joined_.insert(file->family);
  unsought_ = true;
  files_.emplace(std::pair{file->device(), file->inode()}, std::move(file));
}

void FileFinder::catch_up_with_joined() {
  if (joined_.empty()) return;
  for (auto& [id, file] : files_)
    if (joined_.count(file->family)) file->catching_up = true;
  joined_.clear();
}

void FileFinder::list(bool first) {
  std::map<std::string, TrackedFile*> by_path;  // as they were called until now
  for (auto& [id, file] : files_) {
    file->attached = false;
    if (!file->former.empty()) by_path.emplace(file->former, file.get());
  }
  for (auto& [id, file] : files_) by_path[file->checkpoint.path] = file.get();
  const PathPatterns::Found found = watch_.list([this] { return patterns_.find(access_); });
  const std::set<std::string>& paths = found.paths;
  if (found.too_many)
    intake_.problems().set(about("folders"),
                           fmt::format("the paths lead through more than {} folders; the rest is not looked "
                                       "through",
                                       PathPatterns::kMostFolders));
  else
    intake_.problems().clear(about("folders"));
  tell_unknown(found);
  if (paths.empty() && files_.empty() && found.unknown.empty())
    intake_.problems().set(about("paths"), "no file matches");
  else
    intake_.problems().clear(about("paths"));
  std::int64_t newest = 0;  // by the clock of the file system
  if (first)
    for (const std::string& path : paths)
      if (struct stat info; access_.status(path, info) == 0)
        newest = std::max<std::int64_t>(newest, info.st_mtim.tv_sec * kSecond + info.st_mtim.tv_nsec);
  for (const std::string& path : paths) {
    struct stat info;
    if (const int error = access_.status(path, info); error != 0) {
      if (is_absent(error)) continue;
      intake_.problems().set(about(path), std::string("cannot be read: ") + std::strerror(error));
      unasked_.insert(path);
      if (const auto before = by_path.find(path); before != by_path.end()) before->second->attached = true;
      continue;
    }
    if (unasked_.erase(path) != 0) intake_.problems().clear(about(path));
    if (!S_ISREG(info.st_mode)) {
      if (S_ISDIR(info.st_mode) && patterns_.names(path))
        intake_.problems().set(about(path), "is a folder; " + path + "/* names the files in it");
      continue;
    }
    auto known = files_.find({info.st_dev, info.st_ino});
    const bool as_before = known != files_.end() && known->second->checkpoint.path == path;
    if (const std::string why = as_before ? "" : why_not_followed(path); !why.empty()) {
      intake_.problems().set(about(path), why);
      continue;
    }
    if (is_own_output(info)) {
      intake_.problems().set(about(path),
                             "is this program's own output and is not read: it would feed itself");
      continue;
    }
    if (known != files_.end()) {
      TrackedFile& file = *known->second;
      file.attached = true;
      if (file.checkpoint.path != path) {
        joined_.insert(file.family);
        file.former = std::exchange(file.checkpoint.path, path);
      }
      continue;
    }
    if (files_.size() >= most_files()) {
      intake_.problems().set(about("files"),
                             "more files match than `most_files` allows; the rest is not read");
      continue;
    }
    if (auto file = open(path, first)) {
      file->attached = true;
      if (!first || newest - file->seen_modified < kLongestWait) {  // being written to, or last of all
        const auto before = by_path.find(path);
        rotation_.arrived(*file, before == by_path.end() ? nullptr : before->second);
      }
      take(std::move(file));
    }
  }
  // What cannot be looked at may still be there.
  if (!found.unknown.empty())
    for (auto& [id, file] : files_)
      if (!file->attached && file->detached_at == 0) file->attached = found.is_unknown(file->checkpoint.path);
  for (auto& [id, file] : files_)
    if (file->attached)
      file->detached_at = 0;
    else if (file->detached_at == 0)
      file->detached_at = clock_.steady(), file->catching_up = true;
  catch_up_with_joined();
}

void FileFinder::tell_unknown(const PathPatterns::Found& found) {
  for (const std::string& path : unknown_)
    if (!found.unknown.count(path)) intake_.problems().clear(about(path));
  unknown_.clear();
  for (const auto& [path, error] : found.unknown) {
    const bool folder = path.empty() || path.ends_with('/');
    intake_.problems().set(about(path),
                           std::string(folder ? "the folder cannot be listed: " : "cannot be read: ") +
                               std::strerror(error) + "; what was read there keeps its place until it can");
    unknown_.insert(path);
  }
}

// Why a path is not followed to the file that it leads to, or "".
std::string FileFinder::why_not_followed(const std::string& path) const {
  std::error_code error;
  const std::string target = std::filesystem::canonical(path, error).string();
  const std::string data = std::filesystem::weakly_canonical(intake_.data_folder(), error).string();
  if (target.starts_with(data + "/")) return "leads into this program's data folder, and is not read";
  struct stat link, info;
  if (::lstat(path.c_str(), &link) != 0 || !S_ISLNK(link.st_mode)) return "";
  const std::string& links = options_.text("links");
  if (links == "never") return "is a symbolic link; `links: never` says not to follow those";
  if (links == "any" || ::stat(path.c_str(), &info) != 0 || link.st_uid == info.st_uid) return "";
  return "is a symbolic link of another owner than the file that it leads to, and is not followed; `links: "
         "any` "
         "would follow it";
}

std::unique_ptr<TrackedFile> FileFinder::open(const std::string& path, bool first) {
  if (!why_not_followed(path).empty()) return nullptr;
  int fd = -1;
  if (const int error = access_.open(path, fd); error != 0) {
    if (!is_absent(error))
      intake_.problems().set(about(path), std::string("cannot be read: ") + std::strerror(error));
    return nullptr;
  }
  intake_.problems().clear(about(path));
  struct stat info;
  if (::lstat(path.c_str(), &info) == 0 && S_ISLNK(info.st_mode)) watch_.add_link(path);
  if (::fstat(fd, &info) != 0 || !S_ISREG(info.st_mode)) {
    ::close(fd);
    return nullptr;
  }
  auto file = std::make_unique<TrackedFile>(fd, info.st_dev, info.st_ino, access_);
  file->changed_at = file->modified_at = clock_.steady();
  file->born = birth_of(fd);
  file->seen_modified = info.st_mtim.tv_sec * kSecond + info.st_mtim.tv_nsec;
  file->seen_size = static_cast<std::uint64_t>(info.st_size);
  const auto known = known_files_->recognise(*file);
  if (known == KnownFiles::Known::unknown) {
    intake_.problems().set(about(path), std::string("cannot be read: ") + std::strerror(errno));
    return nullptr;
  }
  file->known = known == KnownFiles::Known::yes;
  file->family = family_of(file->known ? file->checkpoint.path : path);
  if (known == KnownFiles::Known::replaced) file->lost_at = clock_.steady();
  if (!file->known) file->restart();
  if (known == KnownFiles::Known::no) {
    file->checkpoint.stream = stream_of_file(fd, intake_.spool().identity().spool_id, name_);
    if (first && options_.text("begin") == "end") {
      file->advance(static_cast<std::uint64_t>(info.st_size));
      file->checkpoint.begun = file->checkpoint.position;
    }
  }
  file->checkpoint.path = path;
  auto resource = std::make_shared<Resource>();
  resource->zone = zone_;
  for (const auto& [field, text] : resource_) resource->add(field, text);
  resource->add("log.file.path", path);
  if (!host_.empty()) resource->add("host.name", host_);
  file->resource = resource;
  return file;
}

}  // namespace dingle
