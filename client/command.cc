#include "client/command.h"

#include <algorithm>
#include <cerrno>
#include <cstring>
#include <fstream>
#include <iostream>
#include <sstream>

namespace dingle {
namespace {

std::vector<CommandSpec>& registered() {
  static std::vector<CommandSpec> all;
  return all;
}

}  // namespace

CommandRegistration::CommandRegistration(const char* name, const char* text, const char* example,
                                         bool has_output, Add add) {
  auto& all = registered();
  CommandSpec spec{name, text, example, has_output, add};
  all.insert(std::upper_bound(
                 all.begin(), all.end(), spec,
                 [](const CommandSpec& a, const CommandSpec& b) { return std::strcmp(a.name, b.name) < 0; }),
             spec);
}

const std::vector<CommandSpec>& commands() { return registered(); }

bool read_input(const std::string& path, std::string& text) {
  std::ostringstream all;
  if (path == "-") {
    all << std::cin.rdbuf();
    text = all.str();
    return true;
  }
  std::ifstream in(path, std::ios::binary);
  if (in) all << in.rdbuf();
  if (!in) {
    std::cerr << "dingle: " << path << ": " << std::strerror(errno) << "\n";
    return false;
  }
  text = all.str();
  return true;
}

}  // namespace dingle
