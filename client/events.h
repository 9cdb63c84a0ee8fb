// How events look to people.
#pragma once

#include <string>
#include <vector>

#include "client/table.h"

namespace dingle {

// One line: time, service, severity, and the message (the body, if no field `message` was parsed). Newlines
// are shown as ⏎. `before`: columns that are taken already. `hits`: words, in lower case, that are shown as found.
std::string event_line(const Client& client, const Json& event, std::size_t before = 0,
                       const std::vector<std::string>& hits = {});
// All fields, one a line, with their types if the event has `dingle.types`.
std::string event_in_full(const Client& client, const Json& event);
// Of a severity's number in the log data model (1 to 24; 0: none).
const char* severity_color(int number);
// All keys of the events in the order of their first appearance, for CSV.
std::vector<Column> columns_of(const std::vector<Json>& events);

}  // namespace dingle
