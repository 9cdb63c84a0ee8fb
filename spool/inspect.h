// Looking at a spool that no process has open: what its segments hold, and what of it is damaged.
#pragma once

#include <cstdint>
#include <map>
#include <string>
#include <vector>

#include "core/result.h"
#include "spool/disk.h"
#include "spool/format.h"

namespace dingle {

struct SpoolReport {
  struct Segment {
    std::string name, problem;  // problem: "" if it is whole
    std::uint64_t bytes = 0, records = 0, first = 0, last = 0, damaged_bytes = 0;
    std::uint64_t epoch = 0;
  };
  std::vector<Segment> segments;
  std::uint64_t spool_id = 0, batches = 0, notes = 0, snapshots = 0, compressed = 0, missing_records = 0;
  std::uint64_t torn_bytes = 0;  // at the end of the last segment: of a write that a crash cut off
  Snapshot state;                // as of the newest record
  struct Waiting {
    std::uint64_t records = 0, events = 0, bytes = 0;
  };
  std::map<std::uint32_t, Waiting> waiting;  // by destination
  bool damaged() const;                      // beyond a torn end, which is usual after a crash
};

// Reads all segments and checks every record. The folder is only read.
Result<SpoolReport> inspect_spool(Disk& disk, const std::string& folder);

}  // namespace dingle
