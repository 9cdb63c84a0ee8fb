// The spool's one seam to the operating system. Production code uses `system_disk()`; tests put a disk under
// the spool that fails, runs full or forgets unsynced writes as a power failure does.
//
// All calls answer an errno value, 0 for success. Paths are absolute or relative to the working directory.
#pragma once

#include <cstdint>
#include <memory>
#include <string>
#include <string_view>
#include <vector>

namespace dingle {

// An open file. Closed by its destructor. Appends come from one thread; reads may come from several.
class DiskFile {
 public:
  virtual ~DiskFile() = default;
  virtual int append(std::string_view bytes) = 0;  // all of it, or an error
  virtual int read(std::uint64_t offset, std::size_t size,
                   std::string& out) const = 0;  // up to `size`; shorter at the end
  virtual int sync() = 0;                        // fdatasync
  virtual int truncate(std::uint64_t size) = 0;
  virtual std::uint64_t size() const = 0;
};

class Disk {
 public:
  virtual ~Disk() = default;
  virtual int make_folder(const std::string& path) = 0;  // and those above it; mode 0700
  virtual int list(const std::string& folder, std::vector<std::string>& names) = 0;
  virtual int create(const std::string& path, std::unique_ptr<DiskFile>& file) = 0;  // fails if it exists
  virtual int open(const std::string& path, std::unique_ptr<DiskFile>& file) = 0;
  // Renames a file, and opens it to be written from its beginning: its size is 0 and grows by appending, but
  // what it held is there until it is overwritten, and is seen again by `open`. What stands does not take
  // room anew, so that syncing need not make it durable that the file grew.
  virtual int reuse(const std::string& from, const std::string& to, std::unique_ptr<DiskFile>& file) = 0;
  virtual int rename(const std::string& from, const std::string& to) = 0;
  virtual int remove(const std::string& path) = 0;
  virtual int sync_folder(const std::string& path) = 0;
};

Disk& system_disk();

}  // namespace dingle
