// The token of the API: 32 random bytes in hex, in the file `token` of the data folder, readable by its owner
// only.
#pragma once

#include <string>

namespace dingle {

// The token of the folder, made if there is none. "" with `*problem` set if it can be neither read nor made,
// or if others may read it.
std::string token_of(const std::string& data, std::string* problem);

// What clients look for in the data folder: the address, and the token. A full disk keeps neither the program from starting nor
// its queues from emptying: what cannot be written is written once there is room. Answers what keeps it from that, or "".
// `full`: whether that is the disk.
std::string write_for_clients(const std::string& data, const std::string& name, const std::string& text,
                              bool* full);

}  // namespace dingle
