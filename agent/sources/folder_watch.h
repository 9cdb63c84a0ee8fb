// Tells at once when files appear in folders or are renamed there, so that a file that is rotated away faster
// than folders are listed is not missed. Where the system cannot watch (inotify is exhausted, a network file
// system), nothing is told and listing the folders now and then has to do.
#pragma once

#include <cstdint>
#include <functional>
#include <map>
#include <string>
#include <vector>

#include "agent/sources/path_patterns.h"

namespace dingle {

class FolderWatch {
 public:
  FolderWatch();
  ~FolderWatch();
  FolderWatch(const FolderWatch&) = delete;
  FolderWatch& operator=(const FolderWatch&) = delete;

  // What `find` finds, once the folders that it looks through have been watched since before it looked: what
  // is renamed after it was listed, or missing in the list because it was renamed meanwhile, is told by
  // `wait`.
  PathPatterns::Found list(const std::function<PathPatterns::Found()>& find);

  struct Renamed {
    std::string from, to;  // paths; `to` as of the last rename that was seen
  };
  struct News {
    bool any = false;  // something appeared or was renamed
    std::vector<Renamed> renamed;
  };
  bool has_news() const;  // `wait` would not wait
  // How the file with that path began, as far as `wait` has told.
  struct Beginning {
    std::uint64_t order = 0;  // counts up over all files; 0: it was there before, or that is not known
    std::string path;         // that it was created by
  };
  Beginning beginning_of(const std::string& path) const;
  // What happened since the last call; waits up to `timeout_ms` for something.
  News wait(int timeout_ms);

 private:
  bool add(const std::string& folder);  // "" is the working directory; true if it was not watched before
  int fd_ = -1;
  std::map<int, std::string> folders_;           // watch -> folder with its final slash
  std::map<std::string, Beginning> beginnings_;  // by path
  std::uint64_t created_ = 0;
  std::map<std::uint32_t, std::string> leaving_;  // by cookie: paths whose new names may be told next time
};

}  // namespace dingle
