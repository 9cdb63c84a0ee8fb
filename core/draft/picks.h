// Values in free text, as templates for `pick`. Internal to core/draft.
#pragma once

#include <cstdint>
#include <string>
#include <string_view>
#include <vector>

#include "core/draft/draft.h"
#include "core/draft/names.h"

namespace dingle {

// Small templates for the addresses, ids, quoted names and pairs that stand in the texts, each with how many of the texts
// have it: those that some part of them have, addresses first, at most 16. `names`: those that are taken.
std::vector<DraftTemplate> draft_picks(const std::vector<std::string_view>& texts, std::int64_t now,
                                       DraftNames names);

}  // namespace dingle
