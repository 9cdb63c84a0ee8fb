#include "server/http_server.h"

#include <httplib.h>

#include <charconv>
#include <cstring>

#include "server/token.h"

namespace dingle {

struct HttpServer::Inside {
  Inside(Api& api_, std::string token_) : api(api_), token(std::move(token_)) {}
  Api& api;
  std::string token, address;
  httplib::Server server;

  void handle(const httplib::Request& in, httplib::Response& out) {
    if (in.path == "/healthz") {
      if (in.method == "GET")
        out.set_content("{\"status\":\"ok\"}", "application/json");
      else
        out.status = 405;
      return;
    }
    const std::string given = in.get_header_value("Authorization");
    if (!given.starts_with("Bearer ") || !tokens_equal(given.substr(7), token)) {
      out.set_header("WWW-Authenticate", "Bearer");
      const ApiAnswer refused = api_error(
          401, given.empty() ? "this call needs the token" : "this is not the token",
          "send `Authorization: Bearer TOKEN`; TOKEN stands in the file `token` of the data folder");
      out.status = 401;
      out.set_content(refused.body, refused.content_type);
      return;
    }
    ApiAnswer answer = api.handle(
        {in.method, in.path, {in.params.begin(), in.params.end()}, in.get_header_value("Accept"), in.body});
    out.status = answer.status;
    if (!answer.stream) {
      out.set_content(answer.body, answer.content_type);
      return;
    }
    out.set_chunked_content_provider(answer.content_type,
                                     [stream = answer.stream](std::size_t, httplib::DataSink& sink) {
                                       std::string piece;
                                       const bool more = stream(piece);
                                       // An empty line now and then tells whether somebody still listens;
                                       // NDJSON readers pass over it.
                                       if (piece.empty()) piece = "\n";
                                       if (!sink.write(piece.data(), piece.size())) return false;
                                       if (!more) sink.done();
                                       return true;
                                     });
  }
};

HttpServer::HttpServer(Api& api, std::string token)
    : inside_(std::make_unique<Inside>(api, std::move(token))) {
  httplib::Server& s = inside_->server;
  s.new_task_queue = [] { return new httplib::ThreadPool(16); };
  s.set_payload_max_length(1 << 20);
  s.set_read_timeout(10, 0);
  s.set_write_timeout(10, 0);
  s.set_keep_alive_timeout(5);
  auto handler = [inside = inside_.get()](const httplib::Request& in, httplib::Response& out) {
    inside->handle(in, out);
  };
  s.Get(".*", handler);
  s.Post(".*", handler);
  s.Delete(".*", handler);
  s.Put(".*", handler);
}

HttpServer::~HttpServer() = default;

std::string HttpServer::listen(const std::string& address) {
  const std::size_t colon = address.rfind(':');
  int port = -1;
  if (colon != std::string::npos) {
    const char* end = address.data() + address.size();
    auto r = std::from_chars(address.data() + colon + 1, end, port);
    if (r.ec != std::errc() || r.ptr != end) port = -1;
  }
  if (port < 0 || port > 65535)
    return "`" + address + "` is not an address with a port, such as 127.0.0.1:3464";
  std::string host = address.substr(0, colon);
  if (host.size() > 2 && host.front() == '[' && host.back() == ']') host = host.substr(1, host.size() - 2);
  if (port == 0)
    port = inside_->server.bind_to_any_port(host);
  else if (!inside_->server.bind_to_port(host, port))
    port = -1;
  if (port < 0)
    return "cannot listen on " + address + ": " + std::strerror(errno) + "; is another dingled running?";
  inside_->address = address.substr(0, colon + 1) + std::to_string(port);
  return "";
}

const std::string& HttpServer::address() const { return inside_->address; }
void HttpServer::serve() { inside_->server.listen_after_bind(); }
void HttpServer::stop() { inside_->server.stop(); }

}  // namespace dingle
