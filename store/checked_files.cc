#include "store/checked_files.h"

#include <sqlite3.h>
#include <xxhash.h>

#include <cstdint>
#include <cstring>
#include <mutex>
#include <string>

namespace dingle {
namespace {

constexpr int kHeader = 100;  // bytes of a database's header, which may be read alone
constexpr char kMagic[] = "SQLite format 3";
constexpr int kSmallestPage = 512;
constexpr int kPageSizeAt = 16, kReservedAt = 20;  // in the header

sqlite3_vfs* base() { return sqlite3_vfs_find(nullptr); }

struct File : sqlite3_file {
  sqlite3_file* real;
  bool database;  // not a log or a journal
};
File* of(sqlite3_file* f) { return static_cast<File*>(f); }
sqlite3_file* real(sqlite3_file* f) { return of(f)->real; }

bool is_page(const File& file, int size, sqlite3_int64 offset) {
  return file.database && size >= kSmallestPage && (size & (size - 1)) == 0 && offset % size == 0;
}

std::uint64_t sum_of(const char* page, int size, sqlite3_int64 offset) {
  return XXH3_64bits_withSeed(page, static_cast<std::size_t>(size - kPageChecksum),
                              static_cast<std::uint64_t>(offset) + 1);
}

// As the header says it.
int page_size_in(const char* header) {
  const int size = static_cast<unsigned char>(header[kPageSizeAt]) << 8 |
                   static_cast<unsigned char>(header[kPageSizeAt + 1]);
  return size == 1 ? 65536 : size;
}

int close(sqlite3_file* f) {
  const int code = real(f)->pMethods != nullptr ? real(f)->pMethods->xClose(real(f)) : SQLITE_OK;
  sqlite3_free(real(f));
  return code;
}

int read(sqlite3_file* f, void* to, int size, sqlite3_int64 offset) {
  // Who opens a file reads its first page before it knows that others write there by a log: it may meet one half written.
  const int tries = offset == 0 ? 50 : 3;
  for (int i = 0; i < tries; ++i) {
    const int code = real(f)->pMethods->xRead(real(f), to, size, offset);
    if (code != SQLITE_OK || !is_page(*of(f), size, offset)) return code;
    const char* page = static_cast<const char*>(to);
    // Who opened it while it was empty does not know the size of its pages yet, and reads the first again.
    if (offset == 0 && page_size_in(page) != size) return SQLITE_OK;
    std::uint64_t kept = 0;
    std::memcpy(&kept, page + size - kPageChecksum, sizeof kept);
    if (kept == sum_of(page, size, offset)) return SQLITE_OK;
    base()->xSleep(base(), 1000);
  }
  return SQLITE_IOERR_DATA;
}

int write(sqlite3_file* f, const void* from, int size, sqlite3_int64 offset) {
  if (!is_page(*of(f), size, offset)) return real(f)->pMethods->xWrite(real(f), from, size, offset);
  thread_local std::string page;  // the pages of SQLite's cache are its own
  page.assign(static_cast<const char*>(from), static_cast<std::size_t>(size));
  const std::uint64_t sum = sum_of(page.data(), size, offset);
  std::memcpy(page.data() + size - kPageChecksum, &sum, sizeof sum);
  return real(f)->pMethods->xWrite(real(f), page.data(), size, offset);
}

// No memory mapping (version 2): what is read that way would not be checked.
const sqlite3_io_methods kMethods{
    2,
    close,
    read,
    write,
    [](sqlite3_file* f, sqlite3_int64 size) { return real(f)->pMethods->xTruncate(real(f), size); },
    [](sqlite3_file* f, int flags) { return real(f)->pMethods->xSync(real(f), flags); },
    [](sqlite3_file* f, sqlite3_int64* size) { return real(f)->pMethods->xFileSize(real(f), size); },
    [](sqlite3_file* f, int lock) { return real(f)->pMethods->xLock(real(f), lock); },
    [](sqlite3_file* f, int lock) { return real(f)->pMethods->xUnlock(real(f), lock); },
    [](sqlite3_file* f, int* out) { return real(f)->pMethods->xCheckReservedLock(real(f), out); },
    [](sqlite3_file* f, int what, void* with) {
      return real(f)->pMethods->xFileControl(real(f), what, with);
    },
    [](sqlite3_file* f) { return real(f)->pMethods->xSectorSize(real(f)); },
    [](sqlite3_file* f) { return real(f)->pMethods->xDeviceCharacteristics(real(f)); },
    [](sqlite3_file* f, int region, int size, int extend, void volatile** at) {
      return real(f)->pMethods->xShmMap(real(f), region, size, extend, at);
    },
    [](sqlite3_file* f, int offset, int n, int flags) {
      return real(f)->pMethods->xShmLock(real(f), offset, n, flags);
    },
    [](sqlite3_file* f) { real(f)->pMethods->xShmBarrier(real(f)); },
    [](sqlite3_file* f, int remove) { return real(f)->pMethods->xShmUnmap(real(f), remove); },
    nullptr,
    nullptr};

int open(sqlite3_vfs*, const char* name, sqlite3_file* f, int flags, int* opened) {
  sqlite3_vfs* const under = base();
  File* file = of(f);
  file->pMethods = nullptr;
  file->database = (flags & SQLITE_OPEN_MAIN_DB) != 0;
  file->real = static_cast<sqlite3_file*>(sqlite3_malloc(under->szOsFile));
  if (file->real == nullptr) return SQLITE_NOMEM;
  std::memset(file->real, 0, static_cast<std::size_t>(under->szOsFile));
  int code = under->xOpen(under, name, file->real, flags, opened);
  // A file without room for checksums is not ours, or was made by an earlier program.
  char header[kHeader];
  if (code == SQLITE_OK && file->database &&
      file->real->pMethods->xRead(file->real, header, kHeader, 0) == SQLITE_OK &&
      std::memcmp(header, kMagic, sizeof kMagic) == 0 &&  // else it was half made, and a journal says how
      header[kReservedAt] != kPageChecksum) {
    file->real->pMethods->xClose(file->real);
    file->real->pMethods = nullptr;
    code = SQLITE_NOTADB;
  }
  if (code != SQLITE_OK && file->real->pMethods == nullptr) {
    sqlite3_free(file->real);
    file->real = nullptr;
    return code;
  }
  file->pMethods = &kMethods;
  return code;
}

}  // namespace

const char* checked_vfs() {
  static sqlite3_vfs vfs{
      3,
      sizeof(File),
      1024,
      nullptr,
      "dingle-checked",
      nullptr,
      open,
      [](sqlite3_vfs*, const char* name, int sync) { return base()->xDelete(base(), name, sync); },
      [](sqlite3_vfs*, const char* name, int flags, int* out) {
        return base()->xAccess(base(), name, flags, out);
      },
      [](sqlite3_vfs*, const char* name, int n, char* out) {
        return base()->xFullPathname(base(), name, n, out);
      },
      nullptr,
      nullptr,
      nullptr,
      nullptr,
      [](sqlite3_vfs*, int n, char* out) { return base()->xRandomness(base(), n, out); },
      [](sqlite3_vfs*, int microseconds) { return base()->xSleep(base(), microseconds); },
      [](sqlite3_vfs*, double* now) { return base()->xCurrentTime(base(), now); },
      [](sqlite3_vfs*, int n, char* out) { return base()->xGetLastError(base(), n, out); },
      [](sqlite3_vfs*, sqlite3_int64* now) { return base()->xCurrentTimeInt64(base(), now); },
      nullptr,
      nullptr,
      nullptr};
  static const int registered = [] {
    vfs.mxPathname = base()->mxPathname;
    return sqlite3_vfs_register(&vfs, 0);
  }();
  return registered == SQLITE_OK ? vfs.zName : nullptr;
}

}  // namespace dingle
