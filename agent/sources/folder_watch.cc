#include "agent/sources/folder_watch.h"

#include <poll.h>
#include <sys/inotify.h>
#include <unistd.h>

#include <algorithm>
#include <utility>

namespace dingle {
namespace {
constexpr std::size_t kMostFolders = 1000;
constexpr std::size_t kMostLinks = 50'000;
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
                                        IN_CREATE | IN_MODIFY | IN_MOVED_FROM | IN_MOVED_TO | IN_ONLYDIR);
  return watch >= 0 &&
         folders_.emplace(watch, folder.empty() || folder.back() == '/' ? folder : folder + "/").second;
}

void FolderWatch::add_link(const std::string& path) {
  if (fd_ < 0 || links_.size() >= kMostLinks) return;
  const int watch = ::inotify_add_watch(fd_, path.c_str(), IN_MODIFY);
  if (watch >= 0 && !folders_.count(watch)) links_[watch] = path;
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

bool FolderWatch::has_news() {
  take();
  return pending_.any;
}

FolderWatch::News FolderWatch::wait(int timeout_ms) {
  take();
  if (!pending_.any && pending_.written.empty() && poll_for(fd_, timeout_ms)) take();
  leaving_before_ = std::exchange(leaving_, {});
  return std::exchange(pending_, {});
}

void FolderWatch::take() {
  alignas(inotify_event) char bytes[64 * 1024];
  for (ssize_t n; (n = ::read(fd_, bytes, sizeof bytes)) > 0;)
    for (ssize_t at = 0; at < n;) {
      const auto* event = reinterpret_cast<const inotify_event*>(bytes + at);
      at += static_cast<ssize_t>(sizeof(inotify_event) + event->len);
      pending_.any |= (event->mask & IN_Q_OVERFLOW) != 0;
      auto folder = folders_.find(event->wd);
      const bool known = folder != folders_.end();
      const std::string path = known && event->len != 0 ? folder->second + event->name : "";
      if (!path.empty())
        take(event->mask, event->cookie, path);
      else if (const auto link = links_.find(event->wd); link != links_.end() && (event->mask & IN_MODIFY))
        take(IN_MODIFY, 0, link->second);
      if (event->mask & IN_IGNORED) folders_.erase(event->wd), links_.erase(event->wd);
    }
}

void FolderWatch::take(std::uint32_t mask, std::uint32_t cookie, const std::string& path) {
  if (mask & IN_MODIFY) {
    if (pending_.written.empty() || pending_.written.back() != path) pending_.written.push_back(path);
    return;
  }
  pending_.any = true;
  if (mask & IN_CREATE) {
    if (beginnings_.size() >= kMostBeginnings) beginnings_.clear();
    beginnings_[path] = {++created_, path};
  }
  if (mask & IN_MOVED_FROM) leaving_[cookie] = path;
  if (!(mask & IN_MOVED_TO)) return;
  auto left = leaving_.extract(cookie);
  if (!left) left = leaving_before_.extract(cookie);
  if (!left) return;
  const std::string from = left.mapped();
  beginnings_.erase(path);
  if (auto moved = beginnings_.extract(from)) {
    moved.key() = path;
    beginnings_.insert(std::move(moved));
  }
  for (Renamed& r : pending_.renamed)  // renamed on: the earlier name leads nowhere any more
    if (r.to == from) r.to = path;
  pending_.renamed.push_back({from, path});
}

}  // namespace dingle
