// Where agents elsewhere send events to the store here (docs/handover.md).
#pragma once

#include <cstddef>

namespace dingle {

inline constexpr const char* kHandoverPath = "/v1/handover";
inline constexpr std::size_t kLargestIntake = 256u << 20;  // bytes of a request, decompressed

}  // namespace dingle
