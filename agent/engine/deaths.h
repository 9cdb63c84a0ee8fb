// Which batches the program died on, by its own fault.
//
// A line that makes the program crash would do so again at every start, since nothing of its batch reaches
// the spool. So a handler of SIGSEGV, SIGBUS, SIGABRT, SIGFPE and SIGILL notes the batch that its thread
// worked on in the file `deaths` of the data folder, and lets the signal take its course. A batch of which
// that was noted twice is deadly: it is set apart, unread by any step. Kills and power failures note nothing.
//
// The file: for each death a line `STREAM FIRST LAST` in hex (positions of lines) for each stream of the batch,
// up to 100, and a line `HASH` (XXH3 of its bytes, which finds a request that is sent again).
#pragma once

#include <cstdint>
#include <string>
#include <vector>

#include "agent/sources/source.h"

namespace dingle {

class Deaths {
 public:
  // Reads what was noted, and installs the handler, for the whole process: one object at a time. Without room
  // to write, nothing will be noted.
  explicit Deaths(const std::string& data);
  ~Deaths();
  Deaths(const Deaths&) = delete;
  Deaths& operator=(const Deaths&) = delete;

  struct Piece {
    std::uint64_t stream = 0, first = 0, last = 0;  // positions of its lines
  };
  bool deadly(const SourceBatch& batch) const;  // costs nothing while there were no deaths

  // A thread that works on batches: gives the handler a stack of its own, so that it runs when the thread's
  // is used up.
  class Worker {
   public:
    Worker();
    ~Worker();
    Worker(const Worker&) = delete;
    Worker& operator=(const Worker&) = delete;

   private:
    std::vector<char> stack_;
  };
  // While it lives, the thread works on this batch.
  class Working {
   public:
    explicit Working(const SourceBatch& batch);
    ~Working();
    Working(const Working&) = delete;
    Working& operator=(const Working&) = delete;
  };

  // Writes the lines of a deadly batch to a file of the data folder's `set-apart`, one JSON object a line,
  // durably. The same batch goes to the same file. Answers its path, or "" if it could not be written.
  // `hidden`: only where they stand, not what.
  std::string set_apart(const SourceBatch& batch, bool hidden = false) const;
  std::vector<std::string> files_set_apart() const;

 private:
  std::string data_;
  std::vector<Piece> noted_;
  std::vector<std::uint64_t> hashes_;
};

}  // namespace dingle
