// The token of the API: 32 random bytes in hex, in the file `token` of the data folder, readable by its owner
// only.
#pragma once

#include <string>

namespace dingle {

// The token of the folder, made if there is none. "" with `*problem` set if it can be neither read nor made,
// or if others may read it.
std::string token_of(const std::string& data, std::string* problem);

}  // namespace dingle
