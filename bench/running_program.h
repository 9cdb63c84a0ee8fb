// The program itself, as benchmarks of the whole start it.
#pragma once

#include <sys/types.h>

#include <nlohmann/json.hpp>
#include <string>

namespace dingle {

// dingled with the configuration c.yaml of a folder, and its data in the folder's `data`; stopped at the end.
class RunningProgram {
 public:
  explicit RunningProgram(const std::string& folder);
  ~RunningProgram() { stop(); }
  RunningProgram(const RunningProgram&) = delete;
  RunningProgram& operator=(const RunningProgram&) = delete;

  nlohmann::json status() const;  // as dingle prints it; discarded while there is no answer
  pid_t pid() const { return pid_; }
  void stop();

 private:
  std::string folder_;
  pid_t pid_ = 0;
};

double memory_mib(pid_t process);  // that it has now

}  // namespace dingle
