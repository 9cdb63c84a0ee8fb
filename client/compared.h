// Two rehearsals of the same lines beside each other.
#pragma once

#include <cstdint>
#include <vector>

#include "agent/json.h"
#include "client/command.h"

namespace dingle {

// One object for each line and pipeline of which something else comes: `line`, `text`, `pipeline`, and `differences`, each with
// `what` (outcome, field, body, timestamp, to, events), for a field its name, and `before` and `after`; null where there is none.
// Times of reading differ by themselves: two times within a minute of `now` (ns since 1970 UTC) are none.
std::vector<Json> compare_rehearsals(const Json& before, const Json& after, std::int64_t now);

// The same for people: grouped by what differs, with an example of each.
void print_comparison(const Client& client, const Json& before, const std::vector<Json>& differing);

}  // namespace dingle
