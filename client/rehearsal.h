// A rehearsal for people.
#pragma once

#include "agent/json.h"
#include "client/command.h"

namespace dingle {

// What `POST /v1/rehearse` answers, on standard output: counts by step, then what failed, was dropped, and goes on, at most
// `most` events of each kind and reason with all that steps did to them.
void print_rehearsal(const Client& client, const Json& answer, std::size_t most);

}  // namespace dingle
