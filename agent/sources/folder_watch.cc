#include "agent/sources/folder_watch.h"

#include <poll.h>
#include <sys/inotify.h>
#include <unistd.h>

#include <algorithm>
#include <utility>

namespace dingle {
namespace {
constexpr std::size_t kMostFolders = 1000;
constexpr std::size_t kMostBeginnings = 10'000;  // a guess at the order of older ones will do
constexpr int kMostLists = 8;                    // folders may appear faster than they are listed
}  // namespace

FolderWatch::FolderWatch() : fd_(::inotify_init1(IN_NONBLOCK | IN_CLOEXEC)) {}
FolderWatch::~FolderWatch() {
  if (fd_ >= 0) ::close(fd_);
}

PathPatterns::Found FolderWatch::list(const std::function<PathPatterns::Found()>& find) {
  for (int lists = 1;; ++lists) {
    PathPatterns::Found found = find();
    bool news = false;
    for (const std::string& folder : found.folders) news |= add(folder);
    if (!news || lists == kMostLists) return found;
  }
}

bool FolderWatch::add(const std::string& folder) {
  if (fd_ < 0 || folders_.size() >= kMostFolders) return false;
  const int watch = ::inotify_add_watch(fd_, folder.empty() ? "." : folder.c_str(),
                                        IN_CREATE | IN_MOVED_FROM | IN_MOVED_TO | IN_ONLYDIR);
  return watch >= 0 &&
         folders_.emplace(watch, folder.empty() || folder.back() == '/' ? folder : folder + "/").second;
}

namespace {
bool poll_for(int fd, int timeout_ms) {
  pollfd p{fd, POLLIN, 0};
  return ::poll(&p, fd >= 0 ? 1 : 0, timeout_ms) > 0;
}
}  // namespace

FolderWatch::Beginning FolderWatch::beginning_of(const std::string& path) const {
  const auto it = beginnings_.find(path);
  return it == beginnings_.end() ? Beginning() : it->second;
}

bool FolderWatch::has_news() const { return poll_for(fd_, 0); }

FolderWatch::News FolderWatch::wait(int timeout_ms) {
  News news;
  if (!poll_for(fd_, timeout_ms)) return news;
  auto leaving = std::exchange(leaving_, {});
  alignas(inotify_event) char bytes[64 * 1024];
  for (ssize_t n; (n = ::read(fd_, bytes, sizeof bytes)) > 0;)
    for (ssize_t at = 0; at < n;) {
      const auto* event = reinterpret_cast<const inotify_event*>(bytes + at);
      at += static_cast<ssize_t>(sizeof(inotify_event) + event->len);
      news.any |= (event->mask & IN_Q_OVERFLOW) != 0;
      auto folder = folders_.find(event->wd);
      if (event->mask & IN_IGNORED) folders_.erase(event->wd);
      if (folder == folders_.end() || event->len == 0) continue;
      const std::string path = folder->second + event->name;
      news.any = true;
      if (event->mask & IN_CREATE) {
        if (beginnings_.size() >= kMostBeginnings) beginnings_.clear();
        beginnings_[path] = {++created_, path};
      }
      if (event->mask & IN_MOVED_FROM) leaving[event->cookie] = leaving_[event->cookie] = path;
      if (!(event->mask & IN_MOVED_TO) || !leaving.count(event->cookie)) continue;
      const std::string from = leaving[event->cookie];
      leaving_.erase(event->cookie);
      beginnings_.erase(path);
      if (auto moved = beginnings_.extract(from)) {
        moved.key() = path;
        beginnings_.insert(std::move(moved));
      }
      for (Renamed& r : news.renamed)  // renamed on: the earlier name leads nowhere any more
        if (r.to == from) r.to = path;
      news.renamed.push_back({from, path});
    }
  return news;
}

}  // namespace dingle
