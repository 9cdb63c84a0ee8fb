#include "bench/running_program.h"

#include <signal.h>
#include <sys/wait.h>
#include <unistd.h>

#include <cstdio>
#include <fstream>

namespace dingle {
namespace {

std::string capture(const std::string& command) {
  std::string out;
  char bytes[4096];
  FILE* pipe = ::popen(command.c_str(), "r");
  for (std::size_t n; (n = ::fread(bytes, 1, sizeof bytes, pipe)) > 0;) out.append(bytes, n);
  ::pclose(pipe);
  return out;
}

}  // namespace

double memory_mib(pid_t process) {
  std::ifstream in("/proc/" + std::to_string(process) + "/status");
  for (std::string line; std::getline(in, line);)
    if (line.starts_with("VmRSS:")) return std::stod(line.substr(6)) / 1024;
  return 0;
}

RunningProgram::RunningProgram(const std::string& folder) : folder_(folder), pid_(::fork()) {
  if (pid_ != 0) return;
  const std::string program = std::string(DINGLE_BINARIES) + "/dingled", configuration = folder + "/c.yaml";
  if (!::freopen("/dev/null", "w", stderr)) ::_exit(126);
  ::execl(program.c_str(), program.c_str(), "--config", configuration.c_str(), nullptr);
  ::_exit(127);
}

nlohmann::json RunningProgram::status() const {
  return nlohmann::json::parse(capture(std::string(DINGLE_BINARIES) + "/dingle --data " + folder_ +
                                       "/data status -o json 2>/dev/null"),
                               nullptr, false);
}

void RunningProgram::stop() {
  if (pid_ <= 0) return;
  ::kill(pid_, SIGTERM);
  ::waitpid(pid_, nullptr, 0);
  pid_ = 0;
}

}  // namespace dingle
