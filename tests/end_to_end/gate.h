// The ticket gate of the tests: a configuration with one destination, its lines, and a service to send them
// to.
#pragma once

#include <httplib.h>

#include <chrono>
#include <mutex>
#include <string>
#include <thread>
#include <vector>

namespace dingle {

// `destination`: YAML, four blanks deep, of the destination `d`.
inline std::string gate_configuration(const std::string& destination) {
  return R"(
sources:
  gate: { files: { paths: ['{dir}/logs/*.log'] }, resource: { service.name: ticket-gate } }
pipelines:
  gate:
    from: [gate]
    steps:
      - parse: { templates: ['{at:rfc3339} {client.address:ip} {user} {status:int}'] }
      - time: { field: at }
    to: [d]
destinations:
  d:
    retry: { first: 20ms, longest: 200ms }
)" + destination;
}

inline std::string gate_line(int n, const std::string& user = "anna") {
  char text[100];
  std::snprintf(text, sizeof text, "2026-11-%02dT10:00:%02dZ 192.0.2.%d ", 20 + n % 3, n % 60, n % 250);
  return text + user + " " + std::to_string(n) + "\n";
}
inline std::string gate_lines(int n) {
  std::string all;
  for (int i = 0; i < n; ++i) all += gate_line(i);
  return all;
}

// A service of a test's own, that answers as the test says.
class Service {
 public:
  explicit Service(httplib::Server::Handler handler) {
    server_.Post(".*", std::move(handler));
    port_ = server_.bind_to_any_port("127.0.0.1");
    thread_ = std::thread([this] { server_.listen_after_bind(); });
    while (!server_.is_running()) std::this_thread::sleep_for(std::chrono::milliseconds(1));
  }
  ~Service() {
    server_.stop();
    thread_.join();
  }
  std::string url(const std::string& path = "/") const {
    return "http://127.0.0.1:" + std::to_string(port_) + path;
  }

 private:
  httplib::Server server_;
  std::thread thread_;
  int port_ = 0;
};

struct Received {
  std::mutex mutex;
  std::vector<std::string> bodies;
  std::vector<httplib::Headers> headers;
  void add(const httplib::Request& request) {
    std::lock_guard lock(mutex);
    bodies.push_back(request.body);
    headers.push_back(request.headers);
  }
};

}  // namespace dingle
