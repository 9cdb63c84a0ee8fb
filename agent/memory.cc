#include "agent/memory.h"

#include <malloc.h>
#include <sys/mman.h>

#include <cinttypes>
#include <cstdio>
#include <fstream>
#include <string>

#include "core/event.h"

namespace dingle {

void prepare_memory() {
  ::mallopt(M_ARENA_MAX, 2);
  ::mallopt(M_MMAP_THRESHOLD, 256 << 10);
  ::mallopt(M_TRIM_THRESHOLD, 1 << 20);
}

void give_back_memory() {
  LineBuffer::forget_spare();
  ::malloc_trim(0);
  // Only what nobody wrote to, so that the file has all of it: neither relocated data nor code with a
  // debugger's breakpoints.
  std::ifstream maps("/proc/self/smaps");
  std::uintptr_t from = 0, to = 0;
  bool of_file = false;
  for (std::string line; std::getline(maps, line);) {
    std::uintptr_t begin = 0, end = 0;
    char rights[5] = "";
    unsigned long inode = 0, written = 0;
    if (std::sscanf(line.c_str(), "%" SCNxPTR "-%" SCNxPTR " %4s %*s %*s %lu", &begin, &end, rights,
                    &inode) == 4) {
      from = begin, to = end;
      of_file = inode != 0 && rights[1] == '-' && rights[3] == 'p';
    } else if (of_file && std::sscanf(line.c_str(), "Anonymous: %lu", &written) == 1 && written == 0) {
      ::madvise(reinterpret_cast<void*>(from), to - from, MADV_DONTNEED);
    }
  }
}

}  // namespace dingle
