#include "agent/sources/request_server.h"

#include <xxhash.h>

#include <thread>
#include <utility>

#include "agent/secret.h"
#include "agent/sources/tracked_file.h"

namespace dingle {

using namespace std::chrono_literals;

namespace {

constexpr std::size_t kLongestKey = 255;

HttpSettings http_settings(const RequestServer::Settings& s) {
  HttpSettings http;
  http.certificate = s.certificate;
  http.key = s.key;
  http.lanes = {s.at_once};
  http.large_bodies = s.at_once;
  return http;
}

}  // namespace

RequestServer::RequestServer(Settings settings)
    : settings_(std::move(settings)), streams_(new_stream()), server_(*this, http_settings(settings_)) {}

RequestServer::~RequestServer() {
  turn_away();  // whoever waits for a taker need not
  server_.stop();
}

std::string RequestServer::listen() {
  const std::string problem = server_.listen(settings_.listen);
  if (!problem.empty()) return problem;
  std::lock_guard lock(mutex_);
  address_ = server_.address();
  return "";
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

std::uint64_t RequestServer::stream_of(const HttpRequest& in) const {
  const std::string peer = in.peer + ' ' + std::to_string(in.port);
  return XXH3_64bits_withSeed(peer.data(), peer.size(), streams_);
}

void RequestServer::refused() {
  std::lock_guard lock(mutex_);
  if (taker_ != nullptr) taker_->refused();
}

HttpHandler::Admission RequestServer::admit(HttpRequest& head) {
  const auto no = [&](int status, const std::string& detail, const std::string& hint) {
    refused();
    return Admission{problem_answer({status, detail, hint})};
  };
  if (!settings_.token.empty() && !tokens_equal(bearer_token(head), settings_.token)) {
    Admission refusal =
        no(401, head.header("Authorization").empty() ? "this needs the token" : "this is not the token",
           "send `Authorization: Bearer TOKEN`");
    refusal.refusal->headers.emplace_back("WWW-Authenticate", "Bearer");
    return refusal;
  }
  if (head.path != settings_.path) return no(404, "nothing is at " + head.path, "POST " + settings_.path);
  if (head.method != "POST") {
    Admission refusal = no(405, head.method + " is not offered", "POST " + settings_.path);
    refusal.refusal->headers.emplace_back("Allow", "POST");
    return refusal;
  }
  if (head.header("Idempotency-Key").size() > kLongestKey)
    return no(400, "the Idempotency-Key is longer than 255 bytes", "");
  return {{}, settings_.largest_request};
}

HttpAnswer RequestServer::handle(HttpRequest& in) {
  for (const auto until = std::chrono::steady_clock::now() + kPatience;;) {
    RequestTaker* taker = nullptr;
    {
      std::unique_lock lock(mutex_);
      changed_.wait_until(lock, until, [&] { return taker_ != nullptr || ending_; });
      if (taker_ == nullptr || ending_) {
        HttpAnswer stopping = problem_answer({503, "dingled is stopping", "send it again later"});
        stopping.close = true;
        return stopping;
      }
      taker = taker_;
      ++inside_;
    }
    // Whatever happens, it is not inside any more then.
    const auto leave = [this](void*) {
      std::lock_guard lock(mutex_);
      --inside_;
      changed_.notify_all();
    };
    {
      const std::unique_ptr<void, decltype(leave)> entered(this, leave);
      if (auto answer = taker->take(in)) return std::move(*answer);
    }
    std::this_thread::sleep_for(1ms);  // until the taker is out, if it is going
  }
}

}  // namespace dingle
