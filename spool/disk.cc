#include "spool/disk.h"

#include <dirent.h>
#include <fcntl.h>
#include <sys/stat.h>
#include <unistd.h>

#include <cerrno>
#include <filesystem>

namespace dingle {
namespace {

class SystemFile final : public DiskFile {
 public:
  SystemFile(int fd, std::uint64_t size) : fd_(fd), size_(size) {}
  ~SystemFile() override { ::close(fd_); }

  int append(std::string_view bytes) override {
    std::uint64_t at = size_;
    while (!bytes.empty()) {
      ssize_t n = ::pwrite(fd_, bytes.data(), bytes.size(), static_cast<off_t>(at));
      if (n < 0 && errno == EINTR) continue;
      if (n < 0) return errno;
      bytes.remove_prefix(static_cast<std::size_t>(n));
      at += static_cast<std::uint64_t>(n);
    }
    size_ = at;  // only now: a failed append is overwritten by the next
    return 0;
  }
  int read(std::uint64_t offset, std::size_t size, std::string& out) const override {
    out.resize(size);
    std::size_t have = 0;
    while (have < size) {
      ssize_t n = ::pread(fd_, out.data() + have, size - have, static_cast<off_t>(offset + have));
      if (n < 0 && errno == EINTR) continue;
      if (n < 0) return errno;
      if (n == 0) break;
      have += static_cast<std::size_t>(n);
    }
    out.resize(have);
    return 0;
  }
  int sync() override { return ::fdatasync(fd_) == 0 ? 0 : errno; }
  int truncate(std::uint64_t size) override {
    if (::ftruncate(fd_, static_cast<off_t>(size)) != 0) return errno;
    size_ = size;
    return 0;
  }
  std::uint64_t size() const override { return size_; }

 private:
  int fd_;
  std::uint64_t size_;
};

class SystemDisk final : public Disk {
 public:
  int make_folder(const std::string& path) override {
    std::error_code error;
    const bool made = std::filesystem::create_directories(path, error);
    if (error) return error.value();
    if (made) ::chmod(path.c_str(), 0700);
    return 0;
  }
  int list(const std::string& folder, std::vector<std::string>& names) override {
    std::error_code error;
    for (auto it = std::filesystem::directory_iterator(folder, error);
         !error && it != std::filesystem::directory_iterator(); it.increment(error))
      names.push_back(it->path().filename().string());
    return error.value();
  }
  int create(const std::string& path, std::unique_ptr<DiskFile>& file) override {
    return open(path, O_CREAT | O_EXCL, file);
  }
  int open(const std::string& path, std::unique_ptr<DiskFile>& file) override { return open(path, 0, file); }
  int reuse(const std::string& from, const std::string& to, std::unique_ptr<DiskFile>& file) override {
    if (int error = rename(from, to)) return error;
    const int fd = ::open(to.c_str(), O_RDWR | O_CLOEXEC);
    if (fd < 0) return errno;
    file = std::make_unique<SystemFile>(fd, 0);
    return 0;
  }
  int rename(const std::string& from, const std::string& to) override {
    return ::rename(from.c_str(), to.c_str()) == 0 ? 0 : errno;
  }
  int remove(const std::string& path) override { return ::unlink(path.c_str()) == 0 ? 0 : errno; }
  int sync_folder(const std::string& path) override {
    int fd = ::open(path.c_str(), O_RDONLY | O_DIRECTORY | O_CLOEXEC);
    if (fd < 0) return errno;
    int error = ::fsync(fd) == 0 ? 0 : errno;
    ::close(fd);
    return error;
  }

 private:
  static int open(const std::string& path, int flags, std::unique_ptr<DiskFile>& file) {
    int fd = ::open(path.c_str(), O_RDWR | O_CLOEXEC | flags, 0600);
    if (fd < 0) return errno;
    struct stat info;
    if (::fstat(fd, &info) != 0) {
      int error = errno;
      ::close(fd);
      return error;
    }
    file = std::make_unique<SystemFile>(fd, static_cast<std::uint64_t>(info.st_size));
    return 0;
  }
};

}  // namespace

Disk& system_disk() {
  static SystemDisk disk;
  return disk;
}

}  // namespace dingle
