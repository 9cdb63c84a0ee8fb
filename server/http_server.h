// The API over HTTP/1.1.
#pragma once

#include <functional>
#include <map>
#include <memory>
#include <string>
#include <vector>

#include "server/api.h"

namespace dingle {

class HttpServer {
 public:
  // `certificate` and `key`: files (PEM); empty: without TLS. `agents` answers names, and tokens that may only
  // write.
  HttpServer(Api& api, std::string token, const std::string& certificate, const std::string& key,
             std::function<std::map<std::string, std::string>()> agents);
  ~HttpServer();
  // Begins to listen on "address:port" (port 0: a free one). Answers the problem, or "".
  std::string listen(const std::string& address);
  const std::string& address() const;  // as bound, "127.0.0.1:3464"
  void serve();                        // returns after `stop`
  void stop();

 private:
  struct Inside;
  std::unique_ptr<Inside> inside_;
};

}  // namespace dingle
