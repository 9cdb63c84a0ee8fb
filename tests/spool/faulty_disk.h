// A disk in memory that fails on demand and forgets what was not synced, as a power failure does.
#pragma once

#include <atomic>
#include <cerrno>
#include <map>
#include <mutex>
#include <random>

#include "spool/disk.h"

namespace dingle {

class FaultyDisk final : public Disk {
 public:
  struct Inode {
    std::string now, durable;
  };

  int failing_syncs = 0;            // so many of the next syncs fail, and what they should have saved is lost
  std::uint64_t room = UINT64_MAX;  // bytes that may still be appended
  std::atomic<bool> dead{false};    // the power is gone: nothing can be changed

  // What a power failure leaves: synced contents, and of the rest of each file a random part: its beginning,
  // or any of its sectors (512 bytes), others as zeros.
  void lose_power(std::uint64_t seed) {
    std::lock_guard lock(mutex);
    std::mt19937_64 random(seed);
    std::erase_if(files, [&](const auto& f) { return !durable_names.count(f.first); });
    for (auto& [path, inode] : files) {
      std::string kept = inode->durable;
      if (inode->now.size() > kept.size())
        kept = inode->now.substr(0, kept.size() + random() % (inode->now.size() - kept.size() + 1));
      if (random() % 2)
        for (std::size_t at = inode->durable.size(); at < kept.size(); at += 512 - at % 512)
          if (random() % 4 == 0)
            kept.replace(at, std::min<std::size_t>(512 - at % 512, kept.size() - at),
                         std::min<std::size_t>(512 - at % 512, kept.size() - at), '\0');
      if (kept.size() > inode->durable.size() && random() % 2)
        kept[inode->durable.size() + random() % (kept.size() - inode->durable.size())] ^= 0x55;
      inode->now = inode->durable = kept;
    }
  }

  int make_folder(const std::string&) override { return 0; }
  int list(const std::string& folder, std::vector<std::string>& names) override {
    std::lock_guard lock(mutex);
    for (const auto& [path, inode] : files)
      if (path.rfind(folder + "/", 0) == 0) names.push_back(path.substr(folder.size() + 1));
    return 0;
  }
  int create(const std::string& path, std::unique_ptr<DiskFile>& file) override {
    std::lock_guard lock(mutex);
    if (dead) return EIO;
    if (files.count(path)) return EEXIST;
    file = std::make_unique<File>(*this, files[path] = std::make_shared<Inode>());
    return 0;
  }
  int open(const std::string& path, std::unique_ptr<DiskFile>& file) override {
    std::lock_guard lock(mutex);
    auto it = files.find(path);
    if (it == files.end()) return ENOENT;
    file = std::make_unique<File>(*this, it->second);
    return 0;
  }
  int remove(const std::string& path) override {
    std::lock_guard lock(mutex);
    if (dead) return EIO;
    return files.erase(path) ? 0 : ENOENT;
  }
  int sync_folder(const std::string&) override {
    std::lock_guard lock(mutex);
    if (dead) return EIO;
    for (const auto& [path, inode] : files) durable_names[path] = true;
    return 0;
  }

  std::mutex mutex;
  std::map<std::string, std::shared_ptr<Inode>> files;
  std::map<std::string, bool> durable_names;

 private:
  class File final : public DiskFile {
   public:
    File(FaultyDisk& disk, std::shared_ptr<Inode> inode) : disk_(disk), inode_(std::move(inode)) {}
    int append(std::string_view bytes) override {
      std::lock_guard lock(disk_.mutex);
      if (disk_.dead) return EIO;
      if (bytes.size() > disk_.room) return ENOSPC;
      disk_.room -= bytes.size();
      inode_->now += bytes;
      return 0;
    }
    int read(std::uint64_t offset, std::size_t size, std::string& out) const override {
      std::lock_guard lock(disk_.mutex);
      out = offset < inode_->now.size() ? inode_->now.substr(offset, size) : "";
      return 0;
    }
    int sync() override {
      std::lock_guard lock(disk_.mutex);
      if (disk_.dead) return EIO;
      if (disk_.failing_syncs > 0) {
        --disk_.failing_syncs;
        inode_->now = inode_->durable +
                      std::string(inode_->now.size() - inode_->durable.size(), '\0');  // the pages are gone
        return EIO;
      }
      inode_->durable = inode_->now;
      return 0;
    }
    int truncate(std::uint64_t size) override {
      std::lock_guard lock(disk_.mutex);
      if (disk_.dead) return EIO;
      inode_->now.resize(size);
      return 0;
    }
    std::uint64_t size() const override {
      std::lock_guard lock(disk_.mutex);
      return inode_->now.size();
    }

   private:
    FaultyDisk& disk_;
    std::shared_ptr<Inode> inode_;
  };
};

}  // namespace dingle
