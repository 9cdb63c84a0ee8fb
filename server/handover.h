// What agents elsewhere send to the store here: POST /v1/handover (docs/handover.md).
#pragma once

#include "server/calls.h"

namespace dingle {

inline constexpr const char* kHandoverPath = "/v1/handover";
inline constexpr std::size_t kLargestIntake = 256u << 20;  // bytes of a request, decompressed

HttpAnswer take_in(Api& api, const HttpRequest& request);

}  // namespace dingle
