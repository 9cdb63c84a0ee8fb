// The ids of destinations, pipelines, steps and counters once more, in a file beside the spool: where the spool has lost the record
// that named one (a disk's fault, a folder that was removed), its queue, its index and its counters are found again.
//
// Text: a line "KEY ID" each as in the spool's state, then "counter/NAME ID"; the last is XXH64 of all before, in hexadecimal digits.
#pragma once

#include <string>

#include "spool/spool.h"

namespace dingle {

class KeptNames {
 public:
  explicit KeptNames(std::string path) : path_(std::move(path)) {}
  // Gives the spool the names that it lacks, with ids that nobody has there. Before it is asked for any. Answers what was lost, or "".
  std::string restore(Spool& spool) const;
  // Writes the file, if it says something else. An errno value.
  int save(const Spool& spool) const;

 private:
  const std::string path_;
};

}  // namespace dingle
