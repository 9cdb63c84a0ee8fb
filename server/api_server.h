// The API where it listens: who may call what.
#pragma once

#include <chrono>
#include <functional>
#include <map>
#include <memory>
#include <mutex>
#include <string>

#include "net/http_server.h"
#include "server/api.h"

namespace dingle {

class ApiServer final : private HttpHandler {
 public:
  // `certificate` and `key`: files (PEM); empty: without TLS. `hosts`: names that a proxy calls it by. `agents` answers names, and tokens that may only
  // write; it is asked once a second at most.
  ApiServer(Api& api, std::string token, const std::string& certificate, const std::string& key,
            std::vector<std::string> hosts, std::function<std::map<std::string, std::string>()> agents);
  ~ApiServer() override;
  // Begins to listen on "address:port" (port 0: a free one), and to serve. Answers the problem, or "".
  std::string listen(const std::string& address) { return server_.listen(address); }
  std::string address() const { return server_.address(); }  // as bound, "127.0.0.1:3464"
  void stop() { server_.stop(); }

 private:
  Admission admit(HttpRequest& head) override;
  HttpAnswer handle(HttpRequest& request) override;
  std::string agent_of(std::string_view given);  // the agent with that token, or ""

  Api& api_;
  const std::string token_;
  const std::function<std::map<std::string, std::string>()> agents_;
  std::mutex mutex_;  // guards what follows
  std::map<std::string, std::string> known_;
  std::chrono::steady_clock::time_point asked_;
  HttpServer server_;
};

}  // namespace dingle
