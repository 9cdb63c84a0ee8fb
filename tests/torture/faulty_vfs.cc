#include "tests/torture/faulty_vfs.h"

#include <fcntl.h>
#include <sqlite3.h>
#include <unistd.h>

#include <algorithm>
#include <atomic>
#include <map>
#include <mutex>
#include <new>
#include <random>
#include <string>
#include <vector>

namespace dingle {
namespace {

struct Change {
  sqlite3_int64 offset = 0;
  std::string before, after;
  sqlite3_int64 size_before = 0;
  bool truncation = false;
};
std::mutex mutex;
std::map<std::string, std::vector<Change>> unsynced;
std::atomic<bool> dead{false};

sqlite3_vfs* base() {
  static sqlite3_vfs* const vfs = sqlite3_vfs_find(nullptr);
  return vfs;
}

// Lies before the base's own file in one piece of memory.
struct File : sqlite3_file {
  std::string* path;
  sqlite3_file* real;
};
File* of(sqlite3_file* f) { return static_cast<File*>(f); }

std::string read_before(sqlite3_file* real, sqlite3_int64 offset, int size, sqlite3_int64 file_size) {
  const sqlite3_int64 there = std::clamp<sqlite3_int64>(file_size - offset, 0, size);
  std::string before(static_cast<std::size_t>(there), '\0');
  if (there > 0) real->pMethods->xRead(real, before.data(), static_cast<int>(there), offset);
  return before;
}

const sqlite3_io_methods kMethods{
    3,
    [](sqlite3_file* f) {
      const int code = of(f)->real->pMethods ? of(f)->real->pMethods->xClose(of(f)->real) : SQLITE_OK;
      delete of(f)->path;
      return code;
    },
    [](sqlite3_file* f, void* to, int n, sqlite3_int64 at) {
      return of(f)->real->pMethods->xRead(of(f)->real, to, n, at);
    },
    [](sqlite3_file* f, const void* from, int n, sqlite3_int64 at) {
      if (dead) return SQLITE_IOERR_WRITE;
      sqlite3_file* real = of(f)->real;
      Change c;
      real->pMethods->xFileSize(real, &c.size_before);
      c.offset = at;
      c.before = read_before(real, at, n, c.size_before);
      c.after.assign(static_cast<const char*>(from), static_cast<std::size_t>(n));
      std::lock_guard lock(mutex);
      unsynced[*of(f)->path].push_back(std::move(c));
      return real->pMethods->xWrite(real, from, n, at);
    },
    [](sqlite3_file* f, sqlite3_int64 size) {
      if (dead) return SQLITE_IOERR_TRUNCATE;
      sqlite3_file* real = of(f)->real;
      Change c;
      c.truncation = true;
      real->pMethods->xFileSize(real, &c.size_before);
      c.offset = size;
      c.before = read_before(real, size, static_cast<int>(std::max<sqlite3_int64>(0, c.size_before - size)),
                             c.size_before);
      std::lock_guard lock(mutex);
      unsynced[*of(f)->path].push_back(std::move(c));
      return real->pMethods->xTruncate(real, size);
    },
    [](sqlite3_file* f, int) {
      if (dead) return SQLITE_IOERR_FSYNC;
      std::lock_guard lock(mutex);
      unsynced.erase(*of(f)->path);
      return SQLITE_OK;
    },
    [](sqlite3_file* f, sqlite3_int64* size) { return of(f)->real->pMethods->xFileSize(of(f)->real, size); },
    [](sqlite3_file* f, int lock) { return of(f)->real->pMethods->xLock(of(f)->real, lock); },
    [](sqlite3_file* f, int lock) { return of(f)->real->pMethods->xUnlock(of(f)->real, lock); },
    [](sqlite3_file* f, int* out) { return of(f)->real->pMethods->xCheckReservedLock(of(f)->real, out); },
    [](sqlite3_file* f, int op, void* arg) {
      return of(f)->real->pMethods->xFileControl(of(f)->real, op, arg);
    },
    [](sqlite3_file* f) { return of(f)->real->pMethods->xSectorSize(of(f)->real); },
    // No promise beyond the usual: neither atomic writes nor order.
    [](sqlite3_file*) { return 0; },
    [](sqlite3_file* f, int region, int size, int extend, void volatile** out) {
      return of(f)->real->pMethods->xShmMap(of(f)->real, region, size, extend, out);
    },
    [](sqlite3_file* f, int offset, int n, int flags) {
      return of(f)->real->pMethods->xShmLock(of(f)->real, offset, n, flags);
    },
    [](sqlite3_file* f) { of(f)->real->pMethods->xShmBarrier(of(f)->real); },
    [](sqlite3_file* f, int remove) { return of(f)->real->pMethods->xShmUnmap(of(f)->real, remove); },
    [](sqlite3_file*, sqlite3_int64, int, void** out) {
      *out = nullptr;
      return SQLITE_OK;
    },
    [](sqlite3_file*, sqlite3_int64, void*) { return SQLITE_OK; }};

int open_file(sqlite3_vfs*, const char* name, sqlite3_file* f, int flags, int* out) {
  File* file = new (f) File;
  file->real = reinterpret_cast<sqlite3_file*>(file + 1);
  file->pMethods = nullptr;
  if (dead && (flags & SQLITE_OPEN_CREATE)) return SQLITE_CANTOPEN;
  const int code = base()->xOpen(base(), name, file->real, flags, out);
  if (code != SQLITE_OK) return code;
  file->path = new std::string(name ? name : "");
  file->pMethods = &kMethods;
  return SQLITE_OK;
}

int delete_file(sqlite3_vfs*, const char* name, int sync) {
  if (dead) return SQLITE_IOERR_DELETE;
  std::lock_guard lock(mutex);
  unsynced.erase(name);
  return base()->xDelete(base(), name, sync);
}

void write_at(int fd, const std::string& bytes, sqlite3_int64 offset) {
  if (!bytes.empty() && ::pwrite(fd, bytes.data(), bytes.size(), offset) < 0) std::abort();
}

}  // namespace

void use_faulty_vfs() {
  static sqlite3_vfs vfs = [] {
    sqlite3_vfs v = *base();
    v.zName = "faulty";
    v.pNext = nullptr;
    v.szOsFile = static_cast<int>(sizeof(File)) + base()->szOsFile;
    v.xOpen = open_file;
    v.xDelete = delete_file;
    sqlite3_vfs_register(&v, 0);
    sqlite3_vfs_unregister(&v);
    return v;
  }();
  sqlite3_vfs_register(&vfs, 1);
}

void cut_power() { dead = true; }

void restore_power(std::uint64_t seed) {
  std::lock_guard lock(mutex);
  std::mt19937_64 random(seed);
  for (auto& [path, changes] : unsynced) {
    const int fd = ::open(path.c_str(), O_RDWR);
    if (fd < 0) continue;
    for (auto c = changes.rbegin(); c != changes.rend(); ++c) {
      write_at(fd, c->before, c->offset);
      if (::ftruncate(fd, c->size_before) != 0) std::abort();
    }
    for (const Change& c : changes) {
      if (random() % 2) continue;
      if (c.truncation) {
        if (::ftruncate(fd, c.offset) != 0) std::abort();
      } else if (random() % 4) {
        write_at(fd, c.after, c.offset);
      } else {  // torn: some of its sectors
        for (std::size_t at = 0; at < c.after.size(); at += 512)
          if (random() % 2) write_at(fd, c.after.substr(at, 512), c.offset + static_cast<sqlite3_int64>(at));
      }
    }
    ::close(fd);
  }
  unsynced.clear();
  dead = false;
}

}  // namespace dingle
