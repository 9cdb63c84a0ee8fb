// The top of a thread: whatever is thrown there is told as a problem and tried again, and never ends the program.
#pragma once

#include <exception>
#include <string>

#include "agent/problems.h"

namespace dingle {

// Does it. False if something was thrown, which is a problem of `about` until it is done without.
template <class Do>
bool guarded(Problems& problems, const std::string& about, const Do& it) {
  try {
    it();
  } catch (const std::exception& error) {
    problems.set(about, std::string("unforeseen: ") + error.what() + "; it is tried again");
    return false;
  }
  problems.clear(about);
  return true;
}

}  // namespace dingle
