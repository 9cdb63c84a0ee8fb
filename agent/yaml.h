// Reads YAML 1.2 into nodes with places.
#pragma once

#include <string_view>

#include "core/options/findings.h"
#include "core/options/node.h"

namespace dingle {

// The document; an empty node for an empty text. Syntax errors, keys that occur twice and documents of more
// than 100 000 nodes go to `findings`.
Node read_yaml(std::string_view text, Findings& findings);

}  // namespace dingle
