// The API over HTTP/1.1.
#pragma once

#include <memory>
#include <string>

#include "server/api.h"

namespace dingle {

class HttpServer {
 public:
  HttpServer(Api& api, std::string token);
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
