// Tells at once when files appear in folders, are renamed there or written to, so that a file that is rotated away
// faster than folders are listed is not missed, and quiet files need not be looked at. Where the system cannot watch (inotify is exhausted, a network file
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

  // Tells as well when the file behind this link is written to, under this path. It is watched for as long as it exists.
  void add_link(const std::string& path);

  struct Renamed {
    std::string from, to;  // paths; `to` as of the last rename that was seen
  };
  struct News {
    bool any = false;  // something appeared or was renamed
    std::vector<Renamed> renamed;
    std::vector<std::string> written;  // paths; one may come several times
  };
  bool has_news();  // something appeared or was renamed of which `wait` did not tell yet
  // How the file with that path began, as far as `wait` has told.
  struct Beginning {
    std::uint64_t order = 0;  // counts up over all files; 0: it was there before, or that is not known
    std::string path;         // that it was created by
  };
  Beginning beginning_of(const std::string& path) const;
  // What happened since the last call; waits up to `timeout_ms` for something.
  News wait(int timeout_ms);

 private:
  void take();  // what the system has to tell, into pending_
  void take(std::uint32_t mask, std::uint32_t cookie, const std::string& path);
  bool add(const std::string& folder);  // "" is the working directory; true if it was not watched before
  int fd_ = -1;
  std::map<int, std::string> folders_;           // watch -> folder with its final slash
  std::map<int, std::string> links_;             // watch of what it leads to -> path
  std::map<std::string, Beginning> beginnings_;  // by path
  std::uint64_t created_ = 0;
  // By cookie: paths whose new names may still be told; those of the last call.
  std::map<std::uint32_t, std::string> leaving_, leaving_before_;
  News pending_;
};

}  // namespace dingle
