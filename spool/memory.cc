#include "spool/memory.h"

#include <fcntl.h>
#include <unistd.h>

#include <cerrno>
#include <cstring>
#include <fstream>
#include <iterator>
#include <map>
#include <mutex>

namespace dingle {
namespace {

class MemoryDisk final : public Disk {
 public:
  int make_folder(const std::string&) override { return 0; }
  int list(const std::string&, std::vector<std::string>&) override { return 0; }  // always begins empty
  int create(const std::string& path, std::unique_ptr<DiskFile>& file) override {
    std::lock_guard lock(mutex_);
    if (files_.count(path)) return EEXIST;
    file = std::make_unique<File>(files_[path] = std::make_shared<Bytes>());
    return 0;
  }
  int open(const std::string& path, std::unique_ptr<DiskFile>& file) override {
    std::lock_guard lock(mutex_);
    auto it = files_.find(path);
    if (it == files_.end()) return ENOENT;
    file = std::make_unique<File>(it->second);
    return 0;
  }
  int reuse(const std::string& from, const std::string& to, std::unique_ptr<DiskFile>& file) override {
    if (int error = remove(from)) return error;
    return create(to, file);
  }
  int rename(const std::string& from, const std::string& to) override {
    std::lock_guard lock(mutex_);
    auto it = files_.find(from);
    if (it == files_.end()) return ENOENT;
    files_[to] = std::move(it->second);
    files_.erase(from);
    return 0;
  }
  int remove(const std::string& path) override {
    std::lock_guard lock(mutex_);
    return files_.erase(path) ? 0 : ENOENT;
  }
  int sync_folder(const std::string&) override { return 0; }

 private:
  struct Bytes {
    std::mutex mutex;
    std::string bytes;
  };
  class File final : public DiskFile {
   public:
    explicit File(std::shared_ptr<Bytes> bytes) : bytes_(std::move(bytes)) {}
    int append(std::string_view more) override {
      std::lock_guard lock(bytes_->mutex);
      bytes_->bytes += more;
      return 0;
    }
    int read(std::uint64_t offset, std::size_t size, std::string& out) const override {
      std::lock_guard lock(bytes_->mutex);
      out = offset < bytes_->bytes.size() ? bytes_->bytes.substr(offset, size) : "";
      return 0;
    }
    int sync() override { return 0; }
    int truncate(std::uint64_t size) override {
      std::lock_guard lock(bytes_->mutex);
      bytes_->bytes.resize(size);
      return 0;
    }
    std::uint64_t size() const override {
      std::lock_guard lock(bytes_->mutex);
      return bytes_->bytes.size();
    }

   private:
    std::shared_ptr<Bytes> bytes_;
  };
  std::mutex mutex_;
  std::map<std::string, std::shared_ptr<Bytes>> files_;
};

}  // namespace

std::unique_ptr<Disk> make_memory_disk() { return std::make_unique<MemoryDisk>(); }

int save_snapshot(const std::string& path, const Snapshot& snapshot) {
  const std::string bytes = encode_record(RecordType::snapshot, 1, 0, encode_snapshot(snapshot), 0);
  const std::string fresh = path + ".new";
  const int fd = ::open(fresh.c_str(), O_WRONLY | O_CREAT | O_TRUNC | O_CLOEXEC, 0600);
  if (fd < 0) return errno;
  const bool written = ::write(fd, bytes.data(), bytes.size()) == static_cast<ssize_t>(bytes.size());
  const int error = !written ? (errno ? errno : ENOSPC) : ::fdatasync(fd) != 0 ? errno : 0;
  ::close(fd);
  if (error) return error;
  return ::rename(fresh.c_str(), path.c_str()) == 0 ? 0 : errno;
}

Result<Snapshot> load_snapshot(const std::string& path) {
  Snapshot snapshot;
  std::ifstream in(path, std::ios::binary);
  if (!in) return snapshot;
  const std::string bytes(std::istreambuf_iterator<char>(in), {});
  if (!record_is_intact(bytes, 0) ||
      !decode_snapshot(std::string_view(bytes).substr(kRecordHeaderSize), snapshot))
    return Problem{path + " is damaged", "remove it: then all files are read from their beginning", 0, 0};
  return snapshot;
}

}  // namespace dingle
