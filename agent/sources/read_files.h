// What sources have read of files, also of those that are gone: so that a copy of one is known, however it is packed.
#pragma once

#include <string>
#include <vector>

#include "agent/sources/tracked_file.h"
#include "spool/spool.h"

namespace dingle {

struct ReadFile {
  std::string source;
  FileCheckpoint checkpoint;
};

inline constexpr std::size_t kMostReadFiles =
    2000;  // that are gone, of each source; the oldest are forgotten

// What is to be noted of a file that is forgotten, was cut, or holds something else now, beside that.
std::vector<StateChange> note_read(const Spool& spool, const std::string& source, const FileCheckpoint& read);
// Of all sources, those that are there and those that are gone; costs their number.
std::vector<ReadFile> read_files(const Spool& spool);

}  // namespace dingle
