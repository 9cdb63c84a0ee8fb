#include "spool/whole_file.h"

#include <fcntl.h>
#include <unistd.h>

#include <cerrno>
#include <cstdio>
#include <string_view>

namespace dingle {

int write_whole(const std::string& path, const std::string& contents, unsigned mode) {
  const std::string temporary = path + ".new";
  ::unlink(temporary.c_str());
  const int fd = ::open(temporary.c_str(), O_WRONLY | O_CREAT | O_EXCL | O_CLOEXEC, mode);
  if (fd < 0) return errno;
  int error = 0;
  for (std::string_view left = contents; error == 0 && !left.empty();) {
    const ssize_t n = ::write(fd, left.data(), left.size());
    if (n > 0)
      left.remove_prefix(static_cast<std::size_t>(n));
    else if (errno != EINTR)
      error = errno;
  }
  if (error == 0 && ::fsync(fd) != 0) error = errno;
  ::close(fd);
  if (error == 0 && ::rename(temporary.c_str(), path.c_str()) != 0) error = errno;
  if (error != 0) ::unlink(temporary.c_str());
  if (error != 0) return error;
  // The name itself lasts once its folder is on disk.
  const std::size_t slash = path.rfind('/');
  const std::string folder = slash == std::string::npos ? "." : slash == 0 ? "/" : path.substr(0, slash);
  const int dir = ::open(folder.c_str(), O_RDONLY | O_DIRECTORY | O_CLOEXEC);
  if (dir < 0) return errno;
  if (::fsync(dir) != 0) error = errno;
  ::close(dir);
  return error;
}

}  // namespace dingle
