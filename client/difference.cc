#include "client/difference.h"

#include <stdlib.h>
#include <sys/wait.h>
#include <unistd.h>

#include <cstdio>
#include <fstream>
#include <iostream>
#include <sstream>

#include "client/table.h"

namespace dingle {
namespace {

// A file that goes with its owner, readable by nobody else.
class Scratch {
 public:
  explicit Scratch(const std::string& text) {
    const int fd = ::mkstemp(path.data());
    if (fd >= 0) ::close(fd);
    std::ofstream(path) << text;
  }
  Scratch(const Scratch&) = delete;
  Scratch& operator=(const Scratch&) = delete;
  ~Scratch() { ::unlink(path.c_str()); }
  std::string path = "/tmp/dingle-version-XXXXXX";
};

// The labels are our own: they hold no quotes.
std::string labelled(const Labelled& l) { return "--label '" + l.label + "' "; }

}  // namespace

bool print_difference(const Client& client, const Labelled& earlier, const Labelled& later) {
  const Scratch a(earlier.text), b(later.text);
  const std::string command = "diff -u " + labelled(earlier) + labelled(later) + a.path + " " + b.path;
  std::string text;
  int status = -1;
  if (std::FILE* out = ::popen(command.c_str(), "r")) {
    char buffer[4096];
    for (std::size_t n; (n = std::fread(buffer, 1, sizeof buffer, out)) > 0;) text.append(buffer, n);
    status = ::pclose(out);
  }
  if (status == 0) return std::cout << "no difference\n", true;
  if (status < 0 || WEXITSTATUS(status) != 1) return std::cerr << "dingle: cannot run diff\n", false;
  std::istringstream lines(text);
  for (std::string line; std::getline(lines, line);) {
    const bool head = line.starts_with("+++") || line.starts_with("---");
    const char* code = head                     ? "1"
                       : line.starts_with("@@") ? "36"
                       : line.starts_with("+")  ? "32"
                       : line.starts_with("-")  ? "31"
                                                : nullptr;
    std::cout << (code ? paint(client, code, line) : line) << "\n";
  }
  return true;
}

}  // namespace dingle
