// Bytes of a connection, through the real server, and the API's reading of what is asked: whatever comes, it answers or closes, nobody
// handles more requests than there are request lines, no body is larger than it may be, and what is refused has a reason.
#include <sys/socket.h>

#include <algorithm>
#include <atomic>
#include <cstdlib>
#include <string>
#include <string_view>

#include "net/http_server.h"
#include "server/calls/call.h"
#include "tests/net/raw_client.h"

namespace {

using namespace dingle;

constexpr std::uint64_t kMost = 2000;

struct Handler final : HttpHandler {
  std::atomic<std::size_t> handled{0};
  Admission admit(HttpRequest& head) override {
    if (!head.path.starts_with('/') && !head.target.starts_with("/%")) std::abort();
    return {{}, kMost};
  }
  HttpAnswer handle(HttpRequest& request) override {
    ++handled;
    if (request.body.size() > kMost) std::abort();
    const Call* call = call_of(request);
    if (call == nullptr) return {200, "text/plain", request.body};
    try {
      const Asked asked = read_asked(*call, request);
      for (const OptionSpec& o : call->body.empty() ? call->parameters : call->body)
        if (o.required && !asked.given(o.name)) std::abort();
      return {200, "text/plain", asked.part};
    } catch (const Refused& refused) {
      if (refused.answer.status != 400 || parse_json(refused.answer.body).value("detail", "").empty())
        std::abort();
      return refused.answer;
    }
  }
};

std::size_t request_lines(std::string_view text) {
  std::size_t n = 0;
  for (const char* version : {"HTTP/1.1\r\n", "HTTP/1.0\r\n"})
    for (std::size_t at = 0; (at = text.find(version, at)) != std::string_view::npos; ++at) ++n;
  return n;
}

}  // namespace

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
  static Handler handler;
  static HttpServer server(handler, {});
  static const std::string problem = server.listen("127.0.0.1:0");
  if (!problem.empty()) std::abort();
  const std::string_view input(reinterpret_cast<const char*>(data), size);
  const std::size_t before = handler.handled;
  RawClient client(server.address());
  client.send(input);
  client.half_close();
  const std::string answer = client.rest();
  if (!client.closed()) std::abort();  // it hangs
  if (!answer.empty() && !answer.starts_with("HTTP/1.")) std::abort();
  if (handler.handled - before > request_lines(input)) std::abort();
  return 0;
}
