// Loaded before the C library into a program under test (LD_PRELOAD): makes its disk and clock misbehave, as
// the file named by DINGLE_FAULTS says; and lets it crash (DINGLE_POISON).
#include <dlfcn.h>
#include <errno.h>
#include <fcntl.h>
#include <stdint.h>
#include <stdlib.h>
#include <string.h>
#include <sys/mman.h>
#include <sys/stat.h>
#include <time.h>
#include <unistd.h>

#include "tests/torture/faults.h"

namespace {

dingle::Faults* faults() {
  static dingle::Faults* const mapped = [] {
    const char* path = ::getenv("DINGLE_FAULTS");
    const int fd = path ? ::open(path, O_RDWR | O_CLOEXEC) : -1;
    void* p = fd < 0 ? MAP_FAILED
                     : ::mmap(nullptr, sizeof(dingle::Faults), PROT_READ | PROT_WRITE, MAP_SHARED, fd, 0);
    if (fd >= 0) ::close(fd);
    return p == MAP_FAILED ? nullptr : static_cast<dingle::Faults*>(p);
  }();
  return mapped;
}

template <class F>
F next(const char* name) {
  return reinterpret_cast<F>(::dlsym(RTLD_NEXT, name));
}

bool sync_fails() {
  dingle::Faults* f = faults();
  if (f == nullptr) return false;
  if (const int pause = f->slow_microseconds) ::usleep(static_cast<useconds_t>(pause));
  if (f->failing_syncs <= 0) return false;
  --f->failing_syncs;
  errno = EIO;
  return true;
}

bool regular(int fd) {
  struct stat s;
  return ::fstat(fd, &s) == 0 && S_ISREG(s.st_mode);
}
bool full(int fd) { return faults() != nullptr && faults()->disk_full && fd > 2 && regular(fd); }

}  // namespace

extern "C" {

int fsync(int fd) {
  static const auto real = next<int (*)(int)>("fsync");
  return sync_fails() ? -1 : real(fd);
}
int fdatasync(int fd) {
  static const auto real = next<int (*)(int)>("fdatasync");
  return sync_fails() ? -1 : real(fd);
}
ssize_t pwrite64(int fd, const void* bytes, size_t size, off64_t at) {
  static const auto real = next<ssize_t (*)(int, const void*, size_t, off64_t)>("pwrite64");
  if (!full(fd)) return real(fd, bytes, size, at);
  if (size > 1 && real(fd, bytes, size / 2, at) < 0) return -1;
  errno = ENOSPC;
  return -1;
}
ssize_t pwrite(int fd, const void* bytes, size_t size, off_t at) { return pwrite64(fd, bytes, size, at); }
ssize_t write(int fd, const void* bytes, size_t size) {
  static const auto real = next<ssize_t (*)(int, const void*, size_t)>("write");
  if (!full(fd)) return real(fd, bytes, size);
  errno = ENOSPC;
  return -1;
}
// Crashes on a text that holds the word DINGLE_POISON.
int pcre2_match_8(const void* code, const unsigned char* subject, size_t length, size_t offset,
                  uint32_t options, void* data, void* context) {
  using Match = int (*)(const void*, const unsigned char*, size_t, size_t, uint32_t, void*, void*);
  static const auto real = next<Match>("pcre2_match_8");
  static const char* const poison = ::getenv("DINGLE_POISON");
  if (poison != nullptr && ::memmem(subject, length, poison, ::strlen(poison)) != nullptr)
    *static_cast<volatile int*>(nullptr) = 0;
  return real(code, subject, length, offset, options, data, context);
}
int clock_gettime(clockid_t clock, struct timespec* t) {
  static const auto real = next<int (*)(clockid_t, struct timespec*)>("clock_gettime");
  const int result = real(clock, t);
  if (clock == CLOCK_REALTIME && faults() != nullptr) t->tv_sec += faults()->clock_seconds;
  return result;
}
}
