#include "agent/sources/file_finder.h"

#include <fcntl.h>
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
      intake_(m.intake),
      counters_(m.intake.spool(), m.settings.name),
      patterns_(options_.texts("paths"), excluded(options_)),
      files_(files),
      rotation_(rotation) {
  char host[256] = "";
  if (::gethostname(host, sizeof host - 1) == 0) host_ = host;
}

void FileFinder::find_known() {
  known_files_.emplace(intake_.spool(), "file/" + name_ + "/");
  const auto open_it = [this](const std::string& path) { return open(path, false); };
  const auto may_be_read = [this](const std::string& path, const FileCheckpoint& kept) {
    return patterns_.matches(path) || (patterns_.matches(kept.path) && !patterns_.is_excluded(path) &&
                                       why_not_followed(kept.path).empty());
  };
  for (auto& file : known_files_->find(open_it, may_be_read)) {
    file->attached = false;
    file->detached_at = clock_.steady();
    take(std::move(file));
  }
  catch_up_with_joined();
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
  const PathPatterns::Found found = watch_.list([this] { return patterns_.find(); });
  const std::set<std::string>& paths = found.paths;
  if (found.too_many)
    intake_.problems().set(about("folders"),
                           fmt::format("the paths lead through more than {} folders; the rest is not looked "
                                       "through",
                                       PathPatterns::kMostFolders));
  else
    intake_.problems().clear(about("folders"));
  if (paths.empty() && files_.empty())
    intake_.problems().set(about("paths"), "no file matches");
  else
    intake_.problems().clear(about("paths"));
  std::int64_t newest = 0;  // by the clock of the file system
  if (first)
    for (const std::string& path : paths)
      if (struct stat info; ::stat(path.c_str(), &info) == 0)
        newest = std::max<std::int64_t>(newest, info.st_mtim.tv_sec * kSecond + info.st_mtim.tv_nsec);
  for (const std::string& path : paths) {
    struct stat info;
    if (::stat(path.c_str(), &info) != 0) {
      if (errno != ENOENT)
        intake_.problems().set(about(path), std::string("cannot be read: ") + std::strerror(errno));
      continue;
    }
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
  for (auto& [id, file] : files_)
    if (file->attached)
      file->detached_at = 0;
    else if (file->detached_at == 0)
      file->detached_at = clock_.steady(), file->catching_up = true;
  catch_up_with_joined();
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
  constexpr int kHow = O_RDONLY | O_CLOEXEC | O_NONBLOCK;
  int fd = ::open(path.c_str(), kHow | O_NOATIME);  // for its owner: reading changes nothing
  if (fd < 0 && errno == EPERM) fd = ::open(path.c_str(), kHow);
  if (fd < 0) {
    if (errno != ENOENT)
      intake_.problems().set(about(path), std::string("cannot be read: ") + std::strerror(errno));
    return nullptr;
  }
  intake_.problems().clear(about(path));
  struct stat info;
  if (::lstat(path.c_str(), &info) == 0 && S_ISLNK(info.st_mode)) watch_.add_link(path);
  if (::fstat(fd, &info) != 0 || !S_ISREG(info.st_mode)) {
    ::close(fd);
    return nullptr;
  }
  auto file = std::make_unique<TrackedFile>(fd, info.st_dev, info.st_ino);
  file->changed_at = file->modified_at = clock_.steady();
  file->born = birth_of(fd);
  file->seen_modified = info.st_mtim.tv_sec * kSecond + info.st_mtim.tv_nsec;
  file->seen_size = static_cast<std::uint64_t>(info.st_size);
  const auto known = known_files_->recognise(*file);
  file->known = known == KnownFiles::Known::yes;
  file->family = family_of(file->known ? file->checkpoint.path : path);
  if (known == KnownFiles::Known::replaced) file->lost_at = clock_.steady();
  if (!file->known) file->restart();
  if (known == KnownFiles::Known::no) {
    file->checkpoint.stream = stream_of_file(fd, intake_.spool().identity().spool_id, name_);
    if (first && options_.text("begin") == "end") file->advance(static_cast<std::uint64_t>(info.st_size));
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
