// Where the indexes of a destination of the kind `index` lie.
#pragma once

#include <cstdint>
#include <string>

namespace dingle {

// Named by the destination's id, so that renaming a destination moves nothing.
std::string index_folder(const std::string& data, std::uint32_t destination);

}  // namespace dingle
