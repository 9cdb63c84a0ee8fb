// Writes numbered lines to two files, and rotates them.
#pragma once

#include <atomic>
#include <filesystem>
#include <fstream>
#include <map>
#include <mutex>
#include <string>
#include <thread>
#include <vector>

#include "tests/end_to_end/daemon.h"

namespace dingle {

class Writer {
 public:
  explicit Writer(Daemon& daemon) {
    for (const char* name : {"alpha", "beta"})
      threads_.emplace_back([this, &daemon, name = std::string(name)] {
        long n = 0, in_file = 0, rotated = 0;
        std::ofstream out(daemon.path(name + ".log"), std::ios::app);
        while (!stopping_) {
          for (int i = 0; i < 20; ++i, ++in_file)
            out << name << ' ' << n++ << " and some more text to make it longer\n";
          out.flush();
          if (rotate.exchange(false) || in_file > 20'000) {
            out.close();
            std::filesystem::rename(daemon.path(name + ".log"),
                                    daemon.path(name + ".old" + std::to_string(rotated++) + ".log"));
            out.open(daemon.path(name + ".log"), std::ios::app);
            in_file = 0;
          }
          std::this_thread::sleep_for(std::chrono::milliseconds(10));
        }
        std::lock_guard lock(mutex_);
        written[name] = n;
      });
  }
  void stop() {
    stopping_ = true;
    for (auto& t : threads_) t.join();
    threads_.clear();
  }
  std::atomic<bool> rotate{false};
  std::map<std::string, long> written;

 private:
  std::atomic<bool> stopping_{false};
  std::mutex mutex_;
  std::vector<std::thread> threads_;
};

}  // namespace dingle
