// How two texts differ, for a person.
#pragma once

#include <string>

#include "client/command.h"

namespace dingle {

struct Labelled {
  std::string label, text;
};
// Prints it as a unified difference (POSIX diff -u), or that there is none. False, with a message on standard error, if that
// cannot be done.
bool print_difference(const Client& client, const Labelled& earlier, const Labelled& later);

}  // namespace dingle
