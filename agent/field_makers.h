// Which steps of a configuration make which fields.
#pragma once

#include <map>
#include <string>
#include <vector>

#include "agent/configuration.h"

namespace dingle {

// By field: "gate: step 1 (`parse`)", ...; or "source gate", where its lines come from there with it. Of what the data bring
// themselves (members of JSON) nothing is known.
std::map<std::string, std::vector<std::string>, std::less<>> makers_of_fields(
    const Configuration& configuration);

}  // namespace dingle
