// Stored events as they were in the spool.
#pragma once

#include <cstdint>
#include <string>

#include "store/block.h"

namespace dingle {

// An event of a block as a record of the spool that holds it alone, for that destination.
std::string record_of(const StoredEvent& event, std::uint32_t destination);

}  // namespace dingle
