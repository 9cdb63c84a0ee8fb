// The words for what happens between a template and a line. Internal to this folder.
#pragma once

#include <string>
#include <string_view>

namespace dingle {

// Up to `most` bytes, not cut within a UTF-8 character.
std::string_view beginning(std::string_view text, std::size_t most = 24);

}  // namespace dingle
