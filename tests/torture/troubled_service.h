// Takes events as NDJSON, at least once; misbehaves on demand.
#pragma once

#include <atomic>
#include <chrono>
#include <map>
#include <mutex>
#include <set>
#include <sstream>
#include <string>
#include <thread>

#include "tests/end_to_end/daemon.h"
#include "tests/end_to_end/service.h"
#include "tests/torture/counted_event.h"

namespace dingle {

class TroubledService {
 public:
  int port() const { return service_.port(); }
  std::atomic<int> answering{200};                                   // a status; 0: never in time
  std::atomic<long> poison{0};                                       // it refuses one number in so many
  std::map<std::string, std::map<long, std::set<std::string>>> ids;  // by file and number
  std::mutex mutex;

 private:
  bool has_poison(const std::string& body) const {
    if (poison == 0) return false;
    std::istringstream in(body);
    CountedEvent event;
    for (std::string line; std::getline(in, line);)
      if (event.read(line) && event.number("n") % poison == poison - 1) return true;
    return false;
  }
  void take(const std::string& body) {
    std::lock_guard lock(mutex);
    std::istringstream in(body);
    CountedEvent event;
    for (std::string line; std::getline(in, line);)
      if (event.read(line)) ids[event.text("file")][event.number("n")].insert(event.text("dingle.id"));
  }
  Service service_{[this](const HttpRequest& request, HttpAnswer& answer) {
    const int status = answering == 200 && has_poison(request.body) ? 400 : answering.load();
    if (status == 0)
      std::this_thread::sleep_for(std::chrono::milliseconds(1500));  // longer than the agent waits
    // A service that fails may have taken what it refused.
    if (status == 200 || status == 0 || status == 500) take(request.body);
    if (status != 200) answer.status = status ? status : 200;
    if (status == 429) answer.headers.emplace_back("Retry-After", "1");
  }};
};

}  // namespace dingle
