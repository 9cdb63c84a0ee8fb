// What became of a change of the configuration, for a person.
#pragma once

#include <string>

#include "client/connection.h"

namespace dingle {

// Prints the answer of a call that makes dingled take a configuration. An exit status.
int tell_reloaded(const Client& client, const Answer& answer);
// Who wants it, USER@HOST, and what for, unless the note is empty: for versions.
Json said(const std::string& note);

}  // namespace dingle
