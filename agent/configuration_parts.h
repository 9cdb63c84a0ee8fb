// Parts of a configuration that others name: patterns and tables.
#pragma once

#include <vector>

#include "agent/configuration.h"

namespace dingle {

void read_patterns(const std::vector<const Node::Entry*>& entries, PatternLibrary& patterns,
                   Findings& findings);
// Reads its file, too: what cannot be read here may be there where the program runs, and is a warning. `sent_beside`: not nullptr,
// nothing is read, and the table is that configuration's if it was written in the same way, else empty. `written`: its options.
void read_table_of(const Node::Entry& e, std::string written, Configuration& configuration,
                   Findings& findings, const Configuration* sent_beside);

// A metric is one thing, whoever counts into it.
void check_metrics(const Configuration& configuration, const Node& at, Findings& findings);

}  // namespace dingle
