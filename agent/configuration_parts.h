// Parts of a configuration that others name: patterns and tables.
#pragma once

#include <vector>

#include "agent/configuration.h"

namespace dingle {

void read_patterns(const std::vector<const Node::Entry*>& entries, PatternLibrary& patterns,
                   Findings& findings);
// Reads its file, too: what cannot be read here may be there where the program runs, and is a warning.
void read_table_of(const Node::Entry& e, Configuration& configuration, Findings& findings);

// A metric is one thing, whoever counts into it.
void check_metrics(const Configuration& configuration, const Node& at, Findings& findings);

}  // namespace dingle
