// Reading what agents elsewhere send: NDJSON, one event a line (docs/handover.md).
#pragma once

#include <map>
#include <string>
#include <string_view>
#include <vector>

#include "core/arena.h"
#include "store/index_file.h"

namespace dingle {

// Collects events; owns what they point to.
class HandoverLines {
 public:
  // False if the line is not an event as agents send them: then it is left out. Any bytes may come.
  bool add(std::string_view line, const Sender& sender);
  const std::map<std::string, std::vector<StoredEvent>>& by_index() const {
    return by_index_;
  }  // valid names

 private:
  Arena arena_;
  std::map<std::string, std::vector<StoredEvent>> by_index_;
};

}  // namespace dingle
