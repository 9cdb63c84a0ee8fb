// The store of another dingled, over its API: POST /v1/handover. Exactly once: events carry their log sequence
// numbers, and the receiver keeps the progress of every sender with them (docs/handover.md).
#pragma once

#include <memory>

#include "agent/destinations/destination.h"

namespace dingle {

std::vector<OptionSpec> remote_index_options();
std::unique_ptr<Destination> make_remote_index(const DestinationMaking& making);

}  // namespace dingle
