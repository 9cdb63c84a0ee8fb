// Tells at once when files appear in folders or are renamed there, so that a file that is rotated away faster
// than folders are listed is not missed. Where the system cannot watch (inotify is exhausted, a network file
// system), nothing is told and listing the folders now and then has to do.
#pragma once

#include <map>
#include <string>
#include <vector>

namespace dingle {

class FolderWatch {
 public:
  FolderWatch();
  ~FolderWatch();
  FolderWatch(const FolderWatch&) = delete;
  FolderWatch& operator=(const FolderWatch&) = delete;

  void add(const std::string& folder);  // "" is the working directory; known ones are passed over

  struct Renamed {
    std::string from, to;  // paths; `to` as of the last rename that was seen
  };
  struct News {
    bool any = false;  // something appeared or was renamed
    std::vector<Renamed> renamed;
  };
  // What happened since the last call; waits up to `timeout_ms` for something.
  News wait(int timeout_ms);

 private:
  int fd_ = -1;
  std::map<int, std::string> folders_;  // watch -> folder with its final slash
};

}  // namespace dingle
