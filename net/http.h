// Requests and answers of HTTP/1.1 (RFC 9110, RFC 9112), free of any library, and who takes them.
#pragma once

#include <atomic>
#include <cstdint>
#include <functional>
#include <map>
#include <memory>
#include <optional>
#include <string>
#include <string_view>
#include <utility>
#include <vector>

namespace dingle {

using HttpFields = std::vector<std::pair<std::string, std::string>>;

struct HttpRequest {
  std::string method, target;                          // as they came
  std::string path;                                    // of the target, decoded
  std::multimap<std::string, std::string> parameters;  // of its query, decoded
  HttpFields headers;
  std::string body;                               // without its Content-Encoding
  std::string peer;                               // an address, without a port
  std::uint16_t port = 0;                         // the peer's
  std::string who;                                // what `admit` noted of the caller
  std::shared_ptr<const std::atomic<bool>> left;  // set once the caller has gone, or the program stops
  // The first of that name, in any case of letters; "" if there is none.
  std::string_view header(std::string_view name) const;
  bool has_left() const { return left && *left; }
};

struct HttpAnswer {
  int status = 200;
  std::string content_type = "application/json";
  std::string body;
  // Instead of a body: asked for the next piece ("": none now) ten times a second until it answers false, on a thread that
  // serves others too: it must not wait. Destroyed when the caller has gone.
  std::function<bool(std::string& piece)> stream = nullptr;
  HttpFields headers = {};  // further ones
  bool close = false;       // the connection ends behind it
};

// Problem details (RFC 9457), with what to do, and the place in a parameter or the body that is wrong.
struct HttpProblem {
  int status = 400;
  std::string detail, hint = {}, parameter = {};
  std::optional<std::size_t> offset = {};
  std::size_t length = 0;  // bytes, with an offset
};
HttpAnswer problem_answer(const HttpProblem& problem);
const char* reason_phrase(int status);  // of RFC 9110, section 15; "" for one that is not known

// Takes requests. Thread-safe.
class HttpHandler {
 public:
  virtual ~HttpHandler() = default;
  struct Admission {
    std::optional<HttpAnswer> refusal = {};  // the connection ends behind it
    std::uint64_t most_body = 0;             // bytes, as they come and decoded
    std::size_t lane = 0;                    // whose workers handle it
  };
  // Whether a request may come, by its head alone. On a thread that serves others too: it must not wait.
  virtual Admission admit(HttpRequest& head) = 0;
  // Answers a request that came whole; by a worker, which may wait.
  virtual HttpAnswer handle(HttpRequest& request) = 0;
  // One that was admitted was refused before it came here: it is too large, or has another form than it says.
  virtual void refused() {}
};

// Decodes %XX; `+` is a blank where `form` says so. What is no such pair stays as it is.
std::string percent_decoded(std::string_view text, bool form);
std::string percent_encoded(std::string_view text);  // all but unreserved characters (RFC 3986, section 2.3)
// The parameters of a query or a form (application/x-www-form-urlencoded); at most kMostParameters, then nullopt.
constexpr std::size_t kMostParameters = 1000;
std::optional<std::multimap<std::string, std::string>> parameters_of(std::string_view query);
// The credentials of `Authorization` if its scheme is Bearer, in any case of letters (RFC 6750); else "".
std::string_view bearer_token(const HttpRequest& request);

}  // namespace dingle
