// What the files of rerun share.
#pragma once

#include <map>
#include <memory>
#include <optional>
#include <string>
#include <vector>

#include "agent/engine/rerun.h"
#include "spool/events.h"

namespace dingle {

// A stored event on its way.
struct Rerun::Old {
  FoundEvent found;  // its record in `json`
  SpooledEvent event;
  std::unique_ptr<EventDecoder> decoder;  // of what `event` points to
  std::string line;                       // as it came
  std::size_t rank = 0, of = 1;  // among those of its line and pipeline on this page, by their branches
};

// What is to be done with events of a group.
struct Rerun::Plan {
  std::optional<Spool::Append> append;                            // what replaces some
  std::map<std::string, std::vector<IndexFile::Gone>> gone = {};  // what is removed, by index
};

// Events of one source, pipeline and zone, as a batch.
struct Rerun::Group {
  const SourceSettings* source = nullptr;
  std::size_t node = 0;
  std::string zone;
  std::vector<std::size_t> old;  // on the page
};

}  // namespace dingle
