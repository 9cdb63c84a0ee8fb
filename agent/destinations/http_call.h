// One HTTP request and its answer, over a connection that is kept. A thin hold on libcurl.
#pragma once

#include <atomic>
#include <chrono>
#include <functional>
#include <string>
#include <string_view>
#include <vector>

#include "core/options/options.h"

namespace dingle {

struct HttpTarget {
  std::string method = "POST", bearer, user, password;
  std::chrono::milliseconds timeout{30'000};  // 0: none
  std::size_t most_body = 4u << 20;           // bytes of an answer that are kept
  std::string ca, certificate, key;           // files
  bool verify = true;
  bool direct = false;  // not by a proxy that the environment names
};

struct HttpReply {
  std::string error;      // not empty: there was no whole answer, and why
  bool too_slow = false;  // the server was reached, and the answer did not come in time
  long status = 0;
  std::string body;
  std::vector<std::string> headers;     // whole lines
  std::chrono::seconds retry_after{0};  // 0: not asked for
  std::string header(
      std::string_view name) const;  // the first of that name, in any case of letters; "" if there is none
};

// Used by one thread at a time. Cookies and redirections are not followed.
class HttpConnection {
 public:
  HttpConnection();
  HttpConnection(const HttpConnection&) = delete;
  HttpConnection& operator=(const HttpConnection&) = delete;
  ~HttpConnection();
  // `headers`: whole lines. Ends early, with an error, when the flag is set. `take` gets the body of a good answer as it
  // comes, instead of the reply; where it answers false the call ends, without an error.
  using Take = std::function<bool(std::string_view)>;
  HttpReply call(const HttpTarget& target, const std::string& url, const std::vector<std::string>& headers,
                 std::string_view body, const std::atomic<bool>& cancelled, const Take& take = nullptr);

 private:
  void* curl_;
};

// The option `tls` of destinations that speak HTTP, and what it says.
OptionSpec tls_option();
void read_tls(const Options& section, HttpTarget& target);

}  // namespace dingle
