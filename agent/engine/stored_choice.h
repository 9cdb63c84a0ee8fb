// Which stored events are meant by work that changes them, and what it waits for before.
#pragma once

#include <cstdint>
#include <functional>
#include <string>
#include <vector>

#include "agent/engine/engine.h"
#include "store/search.h"

namespace dingle {

struct StoredChoice {
  std::string destination;           // the name of one of the kind `index`
  std::string where;                 // a condition; "": all
  std::int64_t from = 0, to = 0;     // event times, ns since 1970; `to` exclusive
  std::vector<std::string> indexes;  // names, `*` for any text; empty: all
  bool dry = false;                  // nothing is changed, only counted

  Query query(const Engine& engine) const;  // the oldest first
};

// Asks `holds` again and again until it is true, or `ends` is: then false.
bool wait_until(const std::function<bool()>& holds, const std::function<bool()>& ends);
// Waits until the destination has passed all that is in the spool now. False: it was to end.
bool wait_until_passed(Spool& spool, std::uint32_t destination, const std::function<bool()>& ends);
// Whether an event came to the spool behind that record.
bool is_newer(const EventOrder& order, const LogNumber& start, const Spool& spool);

}  // namespace dingle
