// All that a question finds, page after page, written as it comes: memory for two pages here and for one there.
#pragma once

#include <string>
#include <vector>

#include "client/connection.h"

namespace dingle {

struct Export {
  Parameters parameters;            // of /v1/events, without `limit`, `after` and `oldest`
  std::vector<std::string> fields;  // only these, in this order; for CSV there must be some
  bool oldest = false;              // the oldest first
  bool defuse = false;              // CSV: what a spreadsheet would take for a formula gets a quote before it
  std::string after;                // goes on behind that place
};

// To standard output, as NDJSON or CSV; how far it is on standard error, where that is a terminal. kFine if it is complete; else it says
// how many were written, and where to go on.
int export_events(const Client& client, const Export& wanted);

}  // namespace dingle
