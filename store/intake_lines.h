// Reading what agents elsewhere send: NDJSON, one event a line (docs/intake.md).
#pragma once

#include <map>
#include <memory>
#include <string>
#include <string_view>
#include <vector>

#include "core/arena.h"
#include "store/index_file.h"

namespace dingle {

// Collects events; owns what they point to.
class IntakeLines {
 public:
  IntakeLines();
  ~IntakeLines();
  // False if the line is not an event as agents send them: then it is left out. Any bytes may come.
  bool add(std::string_view line, const Sender& sender);
  const std::map<std::string, std::vector<StoredEvent>>& by_index() const {
    return by_index_;
  }  // valid names

 private:
  struct Parser;
  std::string_view copy(std::string_view text);
  std::unique_ptr<Parser> parser_;
  Arena arena_;
  std::map<std::string, std::vector<StoredEvent>> by_index_;
};

}  // namespace dingle
