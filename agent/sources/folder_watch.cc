#include "agent/sources/folder_watch.h"

#include <poll.h>
#include <sys/inotify.h>
#include <unistd.h>

#include <algorithm>
#include <cstdint>

namespace dingle {
namespace {
constexpr std::size_t kMostFolders = 1000;
}

FolderWatch::FolderWatch() : fd_(::inotify_init1(IN_NONBLOCK | IN_CLOEXEC)) {}
FolderWatch::~FolderWatch() {
  if (fd_ >= 0) ::close(fd_);
}

void FolderWatch::add(const std::string& folder) {
  if (fd_ < 0 || folders_.size() >= kMostFolders) return;
  const int watch = ::inotify_add_watch(fd_, folder.empty() ? "." : folder.c_str(),
                                        IN_CREATE | IN_MOVED_FROM | IN_MOVED_TO | IN_ONLYDIR);
  if (watch >= 0) folders_.emplace(watch, folder.empty() || folder.back() == '/' ? folder : folder + "/");
}

FolderWatch::News FolderWatch::wait(int timeout_ms) {
  News news;
  pollfd p{fd_, POLLIN, 0};
  if (::poll(&p, fd_ >= 0 ? 1 : 0, timeout_ms) <= 0) return news;
  std::map<std::uint32_t, std::string> leaving;  // by cookie
  alignas(inotify_event) char bytes[64 * 1024];
  for (ssize_t n; (n = ::read(fd_, bytes, sizeof bytes)) > 0;)
    for (ssize_t at = 0; at < n;) {
      const auto* event = reinterpret_cast<const inotify_event*>(bytes + at);
      at += static_cast<ssize_t>(sizeof(inotify_event) + event->len);
      auto folder = folders_.find(event->wd);
      if (event->mask & IN_IGNORED) folders_.erase(event->wd);
      if (folder == folders_.end() || event->len == 0) continue;
      const std::string path = folder->second + event->name;
      news.any = true;
      if (event->mask & IN_MOVED_FROM) leaving[event->cookie] = path;
      if (!(event->mask & IN_MOVED_TO) || !leaving.count(event->cookie)) continue;
      const std::string from = leaving[event->cookie];
      for (Renamed& r : news.renamed)  // renamed on: the earlier name leads nowhere any more
        if (r.to == from) r.to = path;
      news.renamed.push_back({from, path});
    }
  return news;
}

}  // namespace dingle
