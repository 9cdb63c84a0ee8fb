// What many templates begin with. Internal to core/draft.
#pragma once

#include <cstdint>
#include <string>
#include <string_view>
#include <vector>

#include "core/draft/draft.h"

namespace dingle {

// Finds the longest beginnings that three or more of the templates share, each with two captures or more, which end where
// a capture may begin; marks those that have one (`head`), and answers them. Those with which the lines would come apart
// otherwise, when what stands behind is taken apart by itself, are none. Some thousands of lines decide.
std::vector<std::string> share_heads(std::vector<DraftTemplate>& templates,
                                     const std::vector<std::string_view>& lines, std::int64_t now);

}  // namespace dingle
