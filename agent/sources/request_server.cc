#include "agent/sources/request_server.h"

#include <xxhash.h>

#include <cstring>
#include <utility>

#include "agent/destinations/compression.h"
#include "agent/secret.h"
#include "agent/sources/listener.h"
#include "agent/sources/tracked_file.h"
#include "core/json_text.h"

namespace dingle {

using namespace std::chrono_literals;

namespace {
constexpr std::size_t kLongestKey = 255;
}  // namespace

void answer_error(httplib::Response& out, int status, const std::string& message, const std::string& hint,
                  std::optional<std::size_t> offset) {
  std::string body = R"({"error":{"message":)";
  append_json_string(body, message);
  if (!hint.empty()) append_json_string(body += R"(,"hint":)", hint);
  if (offset) body += R"(,"offset":)" + std::to_string(*offset);
  out.status = status;
  out.set_content(body + "}}\n", "application/json");
  if (status == 409 || status == 503) out.set_header("Retry-After", "1");
}

RequestServer::RequestServer(Settings settings) : settings_(std::move(settings)), streams_(new_stream()) {}

RequestServer::~RequestServer() {
  if (!server_) return;
  turn_away();  // whoever waits for a taker need not
  server_->stop();
  thread_.join();
}

std::string RequestServer::address() const {
  std::lock_guard lock(mutex_);
  return address_;
}

void RequestServer::attach(RequestTaker* taker) {
  std::lock_guard lock(mutex_);
  taker_ = taker;
  changed_.notify_all();
}

void RequestServer::detach(bool the_end) {
  std::unique_lock lock(mutex_);
  taker_ = nullptr;
  ending_ = the_end;
  changed_.notify_all();
  changed_.wait(lock, [&] { return inside_ == 0; });
}

void RequestServer::turn_away() {
  std::lock_guard lock(mutex_);
  ending_ = true;
  changed_.notify_all();
}

std::size_t RequestServer::inside() const {
  std::lock_guard lock(mutex_);
  return inside_;
}

std::uint64_t RequestServer::stream_of(const httplib::Request& in) const {
  const std::string peer = in.remote_addr + ' ' + std::to_string(in.remote_port);
  return XXH3_64bits_withSeed(peer.data(), peer.size(), streams_);
}

// For what is wrong with a request before it is handed over.
void RequestServer::refuse(httplib::Response& out, int status, const std::string& message,
                           const std::string& hint) {
  {
    std::lock_guard lock(mutex_);
    if (taker_ != nullptr) taker_->refused();
  }
  answer_error(out, status, message, hint);
  out.set_header("Connection", "close");  // a part of the body may be unread
}

void RequestServer::refuse_size(httplib::Response& out) {
  refuse(out, 413, "the request is larger than " + std::to_string(settings_.largest_request) + " bytes",
         "send less at once, or raise `largest_request`");
}

// Before the body is read: whether it may come.
httplib::Server::HandlerResponse RequestServer::admit(const httplib::Request& in, httplib::Response& out) {
  auto no = [&](int status, const std::string& message, const std::string& hint) {
    refuse(out, status, message, hint);
    return httplib::Server::HandlerResponse::Handled;
  };
  const std::string header = in.get_header_value("Authorization");
  const std::string& token = settings_.token;
  if (!token.empty() && !(header.starts_with("Bearer ") && tokens_equal(header.substr(7), token))) {
    out.set_header("WWW-Authenticate", "Bearer");
    return no(401, header.empty() ? "this needs the token" : "this is not the token",
              "send `Authorization: Bearer TOKEN`");
  }
  if (in.path != settings_.path) return no(404, "nothing is at " + in.path, "POST " + settings_.path);
  if (in.method != "POST") {
    out.set_header("Allow", "POST");
    return no(405, in.method + " is not offered", "POST " + settings_.path);
  }
  if (in.get_header_value<std::uint64_t>("Content-Length", 0) > settings_.largest_request) {
    refuse_size(out);
    return httplib::Server::HandlerResponse::Handled;
  }
  if (in.get_header_value("Idempotency-Key").size() > kLongestKey)
    return no(400, "the Idempotency-Key is longer than 255 bytes", "");
  if (const std::string coding = in.get_header_value("Content-Encoding");
      !coding.empty() && coding != "gzip" && coding != "deflate" && coding != "zstd" && coding != "identity")
    return no(415, "the Content-Encoding `" + coding + "` is not known", "send gzip, zstd or identity");
  return httplib::Server::HandlerResponse::Unhandled;
}

// One request, from its body to its answer.
void RequestServer::serve(const httplib::Request& in, httplib::Response& out,
                          const httplib::ContentReader& read_body) {
  const std::size_t most = settings_.largest_request;
  std::string body;
  bool too_large = false;
  const bool whole = read_body([&](const char* bytes, std::size_t n) {
    too_large = body.size() + n > most;
    if (!too_large) body.append(bytes, n);
    return !too_large;
  });
  const std::string coding = in.get_header_value("Content-Encoding");
  if (too_large) return refuse_size(out);
  if (!whole)
    return refuse(out, 400,
                  "the body did not come whole" + (coding.empty() ? "" : ", or it is not " + coding));
  if (coding == "zstd") {  // others were seen to already
    auto text = decompress_zstd(body, most);
    if (!text && text.problem().length == 0) return refuse_size(out);
    if (!text) return refuse(out, 400, "the body is " + text.problem().message);
    body = std::move(*text);
  }
  hand_over(in, body, out);
}

void RequestServer::hand_over(const httplib::Request& in, const std::string& body, httplib::Response& out) {
  for (const auto until = std::chrono::steady_clock::now() + kPatience;;) {
    RequestTaker* taker = nullptr;
    {
      std::unique_lock lock(mutex_);
      changed_.wait_until(lock, until, [&] { return taker_ != nullptr || ending_; });
      if (taker_ == nullptr || ending_) {
        out.set_header("Connection", "close");
        return answer_error(out, 503, "dingled is stopping", "send it again later");
      }
      taker = taker_;
      ++inside_;
    }
    const bool taken = taker->take(in, body, out);
    {
      std::lock_guard lock(mutex_);
      --inside_;
      changed_.notify_all();
    }
    if (taken) return;
    std::this_thread::sleep_for(1ms);  // until the taker is out, if it is going
  }
}

std::string RequestServer::listen() {
  std::unique_ptr<httplib::Server> server;
  if (settings_.certificate.empty())
    server = std::make_unique<httplib::Server>();
  else
    server = std::make_unique<httplib::SSLServer>(settings_.certificate.c_str(), settings_.key.c_str());
  if (!server->is_valid()) return "the certificate or the key of `tls` cannot be used";
  server->new_task_queue = [n = settings_.connections] { return new httplib::ThreadPool(n); };
  server->set_payload_max_length(settings_.largest_request);
  server->set_read_timeout(30, 0);
  server->set_write_timeout(10, 0);
  server->set_keep_alive_timeout(2);
  server->set_keep_alive_max_count(1'000'000);
  server->set_tcp_nodelay(true);
  server->set_socket_options([](int fd) { reuse_address(fd); });
  server->set_pre_routing_handler(
      [this](const httplib::Request& in, httplib::Response& out) { return admit(in, out); });
  server->Post(".*", [this](const httplib::Request& in, httplib::Response& out,
                            const httplib::ContentReader& read) { serve(in, out, read); });
  const HostPort to = host_and_port(settings_.listen);
  int port = std::stoi(to.port);
  if (port == 0)
    port = server->bind_to_any_port(to.host);
  else if (!server->bind_to_port(to.host, port))
    port = -1;
  if (port < 0) return "cannot listen on " + settings_.listen + ": " + std::strerror(errno);
  server_ = std::move(server);
  thread_ = std::thread([this] { server_->listen_after_bind(); });
  while (!server_->is_running()) std::this_thread::sleep_for(1ms);
  std::lock_guard lock(mutex_);
  address_ = settings_.listen.substr(0, settings_.listen.rfind(':') + 1) + std::to_string(port);
  return "";
}

}  // namespace dingle
