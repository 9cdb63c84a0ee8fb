// A service of a test's own, that answers as the test says.
#pragma once

#include <gtest/gtest.h>

#include <functional>
#include <mutex>
#include <string>
#include <utility>
#include <vector>

#include "net/http_server.h"

namespace dingle {

class Service final : private HttpHandler {
 public:
  using Answering = std::function<void(const HttpRequest&, HttpAnswer&)>;
  explicit Service(Answering answering) : answering_(std::move(answering)), server_(*this, {}) {
    EXPECT_EQ(server_.listen("127.0.0.1:0"), "");
  }
  ~Service() override { server_.stop(); }
  std::string url(const std::string& path = "/") const { return "http://" + server_.address() + path; }
  int port() const { return std::stoi(server_.address().substr(server_.address().rfind(':') + 1)); }

 private:
  Admission admit(HttpRequest&) override { return {{}, 256u << 20}; }
  HttpAnswer handle(HttpRequest& request) override {
    HttpAnswer answer{200, "text/plain"};
    answering_(request, answer);
    return answer;
  }
  const Answering answering_;
  HttpServer server_;
};

struct Received {
  std::mutex mutex;
  std::vector<HttpRequest> requests;
  void add(const HttpRequest& request) {
    std::lock_guard lock(mutex);
    requests.push_back(request);
  }
};

}  // namespace dingle
