// A spool without a disk: segments in memory, gone with the process. What the sources had reached when all
// destinations were done is saved by whoever owns the spool (Spool::acknowledged), and given to the next one.
#pragma once

#include <memory>
#include <string>

#include "core/result.h"
#include "spool/disk.h"
#include "spool/format.h"

namespace dingle {

std::unique_ptr<Disk> make_memory_disk();

// A snapshot in a file of its own, replaced as a whole. An errno value.
int save_snapshot(const std::string& path, const Snapshot& snapshot);
// Empty if there is no such file; a problem if it cannot be read.
Result<Snapshot> load_snapshot(const std::string& path);

}  // namespace dingle
