// A disk in memory that fails on demand and forgets what was not synced, as a power failure does.
#pragma once

#include <algorithm>
#include <atomic>
#include <cerrno>
#include <map>
#include <mutex>
#include <random>
#include <thread>

#include "spool/disk.h"

namespace dingle {

class FaultyDisk final : public Disk {
 public:
  struct Inode {
    std::string now, durable;  // as programs see it, and what a power failure leaves for certain
    std::size_t end = 0;       // of what was appended; behind it, a reused file has what it held before
    std::size_t synced = 0;    // the end at the last sync
    int syncing = 0;           // calls under way
  };

  int failing_syncs = 0;            // so many of the next syncs fail, and what they should have saved is lost
  std::uint64_t room = UINT64_MAX;  // bytes that may still be appended
  bool removed_is_room = false;     // what is removed gives its room back
  int most_syncs_at_once = 0;       // of one file
  std::atomic<bool> dead{false};    // the power is gone: nothing can be changed

  // What a power failure leaves: synced contents, and of the rest of each file a random part: its beginning,
  // or any of its sectors (512 bytes), others as they were, or zeros. A new name that was not synced may be
  // gone.
  void lose_power(std::uint64_t seed) {
    std::lock_guard lock(mutex);
    std::mt19937_64 random(seed);
    for (const auto& [path, inode] : durable_names) {
      const auto now = std::find_if(files.begin(), files.end(),
                                    [&, inode = inode](const auto& f) { return f.second == inode; });
      if (now == files.end() || now->first == path || random() % 2) continue;
      files.erase(now);
      files[path] = inode;
    }
    std::erase_if(files, [&](const auto& f) {
      return std::none_of(durable_names.begin(), durable_names.end(),
                          [&](const auto& d) { return d.second == f.second; });
    });
    for (auto& [path, inode] : files) {
      std::string kept = inode->durable;
      const std::size_t end = inode->synced + random() % (inode->end - inode->synced + 1);
      const bool any_sector = random() % 2;
      if (kept.size() < end) kept.resize(end);
      for (std::size_t at = inode->synced, next; at < end; at = next) {
        next = std::min(end, at + 512 - at % 512);
        if (!any_sector || random() % 4) kept.replace(at, next - at, inode->now, at, next - at);
      }
      if (end > inode->synced && random() % 2) kept[inode->synced + random() % (end - inode->synced)] ^= 0x55;
      inode->now = inode->durable = kept;
      inode->end = inode->synced = kept.size();
    }
  }

  // The files and names of another disk, as they are now.
  void copy(FaultyDisk& other) {
    std::lock_guard lock(other.mutex);
    std::map<std::shared_ptr<Inode>, std::shared_ptr<Inode>> copies;
    auto copied = [&](const std::shared_ptr<Inode>& inode) {
      auto& copy = copies[inode];
      if (!copy) copy = std::make_shared<Inode>(*inode);
      return copy;
    };
    for (const auto& [path, inode] : other.files) files[path] = copied(inode);
    for (const auto& [path, inode] : other.durable_names) durable_names[path] = copied(inode);
  }

  int make_folder(const std::string&) override { return 0; }
  int list(const std::string& folder, std::vector<std::string>& names) override {
    std::lock_guard lock(mutex);
    for (const auto& [path, inode] : files)
      if (path.rfind(folder + "/", 0) == 0) names.push_back(path.substr(folder.size() + 1));
    std::reverse(names.begin(), names.end());  // a folder has no order
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
    it->second->end = it->second->now.size();
    it->second->synced = std::min(it->second->end, it->second->durable.size());
    file = std::make_unique<File>(*this, it->second);
    return 0;
  }
  int reuse(const std::string& from, const std::string& to, std::unique_ptr<DiskFile>& file) override {
    if (int error = rename(from, to)) return error;
    std::lock_guard lock(mutex);
    ++reused;
    files[to]->end = files[to]->synced = 0;
    file = std::make_unique<File>(*this, files[to]);
    return 0;
  }
  int rename(const std::string& from, const std::string& to) override {
    std::lock_guard lock(mutex);
    if (dead) return EIO;
    auto it = files.find(from);
    if (it == files.end()) return ENOENT;
    auto inode = it->second;
    files.erase(it);
    files[to] = inode;
    return 0;
  }
  int remove(const std::string& path) override {
    std::lock_guard lock(mutex);
    if (dead) return EIO;
    if (auto it = files.find(path); removed_is_room && it != files.end()) room += it->second->now.size();
    return files.erase(path) ? 0 : ENOENT;
  }
  int sync_folder(const std::string&) override {
    std::lock_guard lock(mutex);
    if (dead) return EIO;
    durable_names = files;
    return 0;
  }

  std::mutex mutex;
  std::map<std::string, std::shared_ptr<Inode>> files;
  std::map<std::string, std::shared_ptr<Inode>> durable_names;
  int reused = 0;

 private:
  class File final : public DiskFile {
   public:
    File(FaultyDisk& disk, std::shared_ptr<Inode> inode) : disk_(disk), inode_(std::move(inode)) {}
    int append(std::string_view bytes) override {
      std::lock_guard lock(disk_.mutex);
      if (disk_.dead) return EIO;
      if (bytes.size() > disk_.room) return ENOSPC;
      disk_.room -= bytes.size();
      inode_->now.replace(inode_->end, std::min(bytes.size(), inode_->now.size() - inode_->end), bytes);
      inode_->end += bytes.size();
      return 0;
    }
    int read(std::uint64_t offset, std::size_t size, std::string& out) const override {
      std::lock_guard lock(disk_.mutex);
      out = offset < inode_->now.size() ? inode_->now.substr(offset, size) : "";
      return 0;
    }
    int sync() override {
      {
        std::lock_guard lock(disk_.mutex);
        disk_.most_syncs_at_once = std::max(disk_.most_syncs_at_once, ++inode_->syncing);
      }
      std::this_thread::yield();
      std::lock_guard lock(disk_.mutex);
      --inode_->syncing;
      if (disk_.dead) return EIO;
      if (disk_.failing_syncs > 0) {
        --disk_.failing_syncs;
        const std::size_t size = inode_->now.size();  // the pages are gone
        inode_->now = inode_->durable;
        inode_->now.resize(size);
        return EIO;
      }
      inode_->durable = inode_->now;
      inode_->synced = inode_->end;
      return 0;
    }
    int truncate(std::uint64_t size) override {
      std::lock_guard lock(disk_.mutex);
      if (disk_.dead) return EIO;
      inode_->now.resize(size);
      inode_->end = size;
      inode_->synced = std::min<std::size_t>(inode_->synced, size);
      return 0;
    }
    std::uint64_t size() const override {
      std::lock_guard lock(disk_.mutex);
      return inode_->end;
    }

   private:
    FaultyDisk& disk_;
    std::shared_ptr<Inode> inode_;
  };
};

}  // namespace dingle
