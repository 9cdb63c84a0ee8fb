// What a `files` source asks the system: the seam by which tests say what cannot be looked at. What cannot be looked at is
// unknown, never gone.
#pragma once

#include <sys/stat.h>
#include <sys/types.h>

#include <cstdint>
#include <string>
#include <vector>

namespace dingle {

// Thread-safe. Answers are errno values; 0: it was done.
class FileAccess {
 public:
  virtual ~FileAccess() = default;
  struct Entry {
    std::string name;
    std::uint64_t inode = 0;
    unsigned char kind = 0;  // as in `dirent`
  };
  // What the folder holds, without . and ..; "" is the working folder. With an error in between, what came before it.
  virtual int list(const std::string& folder, std::vector<Entry>& entries) const;
  virtual int status(const std::string& path, struct stat& info) const;       // of what a link leads to
  virtual int link_status(const std::string& path, struct stat& info) const;  // of a link itself
  // To read, without waiting for whoever writes, and without a trace in the file's times where that is allowed.
  virtual int open(const std::string& path, int& fd) const;
  // As pread(2): bytes read, or -1 with errno.
  virtual ssize_t read(int fd, char* to, std::size_t size, std::uint64_t at) const;
};

const FileAccess& system_file_access();

// Whether that answer means that there is no such file; any other one says nothing of it.
bool is_absent(int error);

}  // namespace dingle
