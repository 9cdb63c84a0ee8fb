// Jobs of the server, as `dingle` shows and follows them.
#pragma once

#include <cstdint>
#include <functional>
#include <string>

#include "agent/json.h"
#include "client/command.h"

namespace dingle {

// How far it is: "1 200 of 40 000 letters, 3 100/s, 12 s left".
std::string progress_of(const Json& job);
bool is_open(const Json& job);  // it waits or runs
// Shows on a terminal how far it is until it ends; the job then, null with a message if that cannot be told.
Json follow_job(const Client& client, std::int64_t id);
void tell_notes(const Json& result);      // why nothing was found
int tell_if_not_done(const Json& ended);  // an exit status
// Of a job that was started just now: waits for its end, unless `no_wait`, and prints `told(job)`, and why it did not come to
// its end. An exit status.
int see_to_its_end(const Client& client, const Json& job, bool no_wait,
                   const std::function<std::string(const Json&)>& told);

}  // namespace dingle
