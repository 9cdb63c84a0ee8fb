#include "server/http_server.h"

#include <httplib.h>

#include <cstring>

#include "agent/secret.h"
#include "agent/sources/listener.h"
#include "server/handover.h"
#include "server/token.h"
#include "spool/spool.h"

namespace dingle {

struct HttpServer::Inside {
  Inside(Api& api_, std::string token_) : api(api_), token(std::move(token_)) {}
  Api& api;
  std::string token, address;
  std::function<std::map<std::string, std::string>()> agents;
  std::unique_ptr<httplib::Server> server;

  static std::string given_token(const httplib::Request& in) {
    const std::string header = in.get_header_value("Authorization");
    return header.starts_with("Bearer ") ? header.substr(7) : "";
  }
  // The agent with that token, or "".
  std::string agent_of(const std::string& given) const {
    std::string found;
    for (const auto& [name, own] : agents())
      if (tokens_equal(given, own)) found = name;
    return found;
  }

  // Before a request's body is read: whether it may come.
  httplib::Server::HandlerResponse admit(const httplib::Request& in, httplib::Response& out) {
    using Answer = httplib::Server::HandlerResponse;
    auto refuse = [&](int status, const std::string& message, const std::string& hint) {
      const ApiAnswer refused = api_error(status, message, hint);
      out.set_header("Connection", "close");  // the body stays unread
      out.status = status;
      out.set_content(refused.body, refused.content_type);
      return Answer::Handled;
    };
    if (in.path == "/healthz") return Answer::Unhandled;
    const std::string given = given_token(in);
    bool is_agent = false;
    if (!tokens_equal(given, token)) {
      is_agent = !agent_of(given).empty();
      if (!is_agent) {
        out.set_header("WWW-Authenticate", "Bearer");
        return refuse(
            401,
            in.get_header_value("Authorization").empty() ? "this call needs the token"
                                                         : "this is not the token",
            "send `Authorization: Bearer TOKEN`; TOKEN stands in the file `token` of the data folder");
      }
    }
    if (is_agent && in.path != kHandoverPath)
      return refuse(403, "an agent's token may only write", std::string("POST ") + kHandoverPath);
    constexpr std::uint64_t kLargestRequest = 1u << 20;
    if (in.path != kHandoverPath && in.get_header_value<std::uint64_t>("Content-Length", 0) > kLargestRequest)
      return refuse(413, "the request is larger than 1 MiB", "");
    return Answer::Unhandled;
  }

  void handle(const httplib::Request& in, httplib::Response& out) {
    if (in.path == "/healthz") {
      if (in.method == "GET")
        out.set_content("{\"status\":\"ok\"}", "application/json");
      else
        out.status = 405;
      return;
    }
    ApiRequest request{
        in.method, in.path, {in.params.begin(), in.params.end()}, in.get_header_value("Accept"), in.body};
    if (const std::string given = given_token(in); !tokens_equal(given, token))
      request.agent = agent_of(given);
    if (in.get_header_value("Content-Encoding") == "zstd") {  // gzip was seen to already
      request.body = decompress_events(in.body);
      if (request.body.empty() && !in.body.empty()) {
        out.status = 400;
        out.set_content(api_error(400, "the body is not one zstd frame with its size").body,
                        "application/json");
        return;
      }
    }
    ApiAnswer answer = api.handle(request);
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

HttpServer::HttpServer(Api& api, std::string token, const std::string& certificate, const std::string& key,
                       std::function<std::map<std::string, std::string>()> agents)
    : inside_(std::make_unique<Inside>(api, std::move(token))) {
  inside_->agents = std::move(agents);
  if (certificate.empty())
    inside_->server = std::make_unique<httplib::Server>();
  else
    inside_->server = std::make_unique<httplib::SSLServer>(certificate.c_str(), key.c_str());
  httplib::Server& s = *inside_->server;
  s.new_task_queue = [] { return new httplib::ThreadPool(16); };
  s.set_payload_max_length(kLargestIntake);
  s.set_read_timeout(10, 0);
  s.set_write_timeout(10, 0);
  s.set_keep_alive_timeout(5);
  s.set_tcp_nodelay(true);
  s.set_socket_options([](int fd) { reuse_address(fd); });
  s.set_pre_routing_handler([inside = inside_.get()](const httplib::Request& in, httplib::Response& out) {
    return inside->admit(in, out);
  });
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
  const HostPort to = host_and_port(address);
  if (to.port.empty()) return "`" + address + "` is not an address with a port, such as 127.0.0.1:3464";
  const std::string& host = to.host;
  int port = std::stoi(to.port);
  if (!inside_->server->is_valid()) return "the certificate or the key of `server.tls` cannot be used";
  if (port == 0)
    port = inside_->server->bind_to_any_port(host);
  else if (!inside_->server->bind_to_port(host, port))
    port = -1;
  if (port < 0)
    return "cannot listen on " + address + ": " + std::strerror(errno) + "; is another dingled running?";
  inside_->address = address.substr(0, address.rfind(':') + 1) + std::to_string(port);
  return "";
}

const std::string& HttpServer::address() const { return inside_->address; }
void HttpServer::serve() { inside_->server->listen_after_bind(); }
void HttpServer::stop() { inside_->server->stop(); }

}  // namespace dingle
