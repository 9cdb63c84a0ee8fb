// A client of HTTP, for tests.
#pragma once

#include <atomic>
#include <memory>
#include <string>
#include <utility>
#include <vector>

#include "agent/destinations/http_call.h"

namespace dingle {

class Caller {
 public:
  explicit Caller(std::string url, const std::string& token = "") : url_(std::move(url)) {
    target.bearer = token;
    target.direct = true;
    target.timeout = std::chrono::seconds(60);
    target.most_body = std::size_t{1} << 30;
  }
  using Headers = std::vector<std::pair<std::string, std::string>>;
  HttpReply get(const std::string& path, const Headers& headers = {}) {
    return call("GET", path, "", "", headers);
  }
  HttpReply post(const std::string& path, const std::string& body, const std::string& type = "text/plain",
                 const Headers& headers = {}) {
    return call("POST", path, body, type, headers);
  }
  HttpReply call(const std::string& method, const std::string& path, const std::string& body = "",
                 const std::string& type = "", const Headers& headers = {}) {
    std::vector<std::string> lines;
    if (!type.empty()) lines.push_back("Content-Type: " + type);
    for (const auto& [name, value] : headers) lines.push_back(name + ": " + value);
    target.method = method;
    if (!keeps || !connection_) connection_ = std::make_unique<HttpConnection>();
    return connection_->call(target, url_ + path, lines, body, never_);
  }
  HttpTarget target;
  bool keeps = true;  // its connection

 private:
  const std::string url_;
  const std::atomic<bool> never_{false};
  std::unique_ptr<HttpConnection> connection_;
};

}  // namespace dingle
