// Posts numbered lines, each batch under a key of its own, and the same batch again until it is taken.
#pragma once

#include <fmt/format.h>

#include <atomic>
#include <chrono>
#include <random>
#include <string>
#include <thread>

#include "tests/end_to_end/caller.h"

namespace dingle {

class Poster {
 public:
  explicit Poster(int port)
      : client_("http://127.0.0.1:" + std::to_string(port)), thread_([this] { post(); }) {
    client_.target.timeout = std::chrono::seconds(2);
  }
  // Returns once its last batch is taken, or never will be.
  void stop() {
    stopping_ = true;
    if (thread_.joinable()) thread_.join();
  }
  ~Poster() { stop(); }
  static constexpr const char* kName = "epsilon";
  long written = 0, again = 0;  // after `stop`: lines; batches that were sent once more

 private:
  void post() {
    std::mt19937 random(5);
    while (!stopping_) {
      const long count = 1 + static_cast<long>(random() % 40);
      std::string body;
      for (long n = written; n < written + count; ++n)
        body += fmt::format("{} {} and some more text, posted\n", kName, n);
      const std::string key = fmt::format("\"{}-{}\"", kName, written);
      using namespace std::chrono_literals;
      for (int tries = 0; tries < 6000; ++tries, ++again) {
        const HttpReply reply = client_.post("/", body, "text/plain", {{"Idempotency-Key", key}});
        if (reply.error.empty() && reply.status == 200) break;
        std::this_thread::sleep_for(10ms);
      }
      written += count;
      std::this_thread::sleep_for(10ms);
    }
  }
  std::atomic<bool> stopping_{false};
  Caller client_;
  std::thread thread_;
};

}  // namespace dingle
