// Writing a small file in one step.
#pragma once

#include <string>

namespace dingle {

// Afterwards the file has the old contents or the new, whatever ends the program meanwhile. An errno value.
// The file is new each time: a link of that name is replaced, not followed.
int write_whole(const std::string& path, const std::string& contents, unsigned mode);

}  // namespace dingle
