#include "agent/sources/file_access.h"

#include <dirent.h>
#include <fcntl.h>
#include <unistd.h>

#include <cerrno>
#include <memory>

namespace dingle {

int FileAccess::list(const std::string& folder, std::vector<Entry>& entries) const {
  const std::unique_ptr<DIR, int (*)(DIR*)> dir(::opendir(folder.empty() ? "." : folder.c_str()), ::closedir);
  if (!dir) return errno;
  for (;;) {
    errno = 0;
    const dirent* entry = ::readdir(dir.get());
    if (entry == nullptr) return errno;
    const std::string name = entry->d_name;
    if (name != "." && name != "..") entries.push_back({name, entry->d_ino, entry->d_type});
  }
}

int FileAccess::status(const std::string& path, struct stat& info) const {
  return ::stat(path.c_str(), &info) == 0 ? 0 : errno;
}

int FileAccess::link_status(const std::string& path, struct stat& info) const {
  return ::lstat(path.c_str(), &info) == 0 ? 0 : errno;
}

int FileAccess::open(const std::string& path, int& fd) const {
  constexpr int kHow = O_RDONLY | O_CLOEXEC | O_NONBLOCK;
  fd = ::open(path.c_str(), kHow | O_NOATIME);  // for its owner
  if (fd < 0 && errno == EPERM) fd = ::open(path.c_str(), kHow);
  return fd >= 0 ? 0 : errno;
}

ssize_t FileAccess::read(int fd, char* to, std::size_t size, std::uint64_t at) const {
  return ::pread(fd, to, size, static_cast<off_t>(at));
}

const FileAccess& system_file_access() {
  static const FileAccess access;
  return access;
}

bool is_absent(int error) { return error == ENOENT || error == ENOTDIR; }

}  // namespace dingle
