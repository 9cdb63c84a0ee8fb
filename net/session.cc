#include "net/session.h"

#include <poll.h>
#include <sys/socket.h>
#include <xxhash.h>

#include <algorithm>
#include <boost/asio/post.hpp>
#include <boost/asio/write.hpp>
#include <boost/beast/http/error.hpp>
#include <boost/beast/http/field.hpp>
#include <boost/beast/http/rfc7230.hpp>
#include <charconv>
#include <utility>

#include "net/coding.h"

namespace dingle {

namespace asio = boost::asio;
namespace beast = boost::beast;
using namespace std::chrono_literals;

namespace {

constexpr std::size_t kWorthCompressing = 1400;  // bytes of an answer: what fits one packet
constexpr auto kLooksAfter = 300ms;              // at work, whether the caller is still there
constexpr std::size_t kEagerRate = 64 * 1024;    // bytes a second, of large bodies for which others wait

std::int64_t steady_now() {
  return std::chrono::duration_cast<std::chrono::nanoseconds>(
             std::chrono::steady_clock::now().time_since_epoch())
      .count();
}

bool is_loopback_name(std::string_view host) {
  const std::size_t colon = host.rfind(':');
  if (host.starts_with('[')) {
    host = host.substr(0, host.find(']') + 1);
  } else if (colon != std::string_view::npos) {
    host = host.substr(0, colon);
  }
  if (host == "[::1]" || beast::iequals({host.data(), host.size()}, "localhost")) return true;
  // 127.x.y.z as numbers: `127.0.0.1.example` is somebody else's name.
  return host.starts_with("127.") && host.find_first_not_of("0123456789.") == std::string_view::npos;
}

bool is_one_of(const std::vector<std::string>& names, std::string_view host) {
  if (const std::size_t colon = host.rfind(':'); colon != std::string_view::npos)
    host = host.substr(0, colon);
  return std::any_of(names.begin(), names.end(), [&](const std::string& name) {
    return beast::iequals(beast::string_view(name.data(), name.size()),
                          beast::string_view(host.data(), host.size()));
  });
}

HttpAnswer problem(int status, std::string detail, std::string hint = "") {
  return problem_answer({status, std::move(detail), std::move(hint)});
}

}  // namespace

HttpSession::HttpSession(Socket socket, std::shared_ptr<SessionHost> host, std::string peer,
                         std::uint16_t port)
    : host_(std::move(host)), socket_(std::move(socket)), peer_(std::move(peer)), port_(port) {
  if (host_->tls) tls_.emplace(socket_, *host_->tls);
}

void HttpSession::set(Phase phase, std::chrono::nanoseconds deadline) {
  const std::int64_t now = steady_now();
  if (phase_ != phase) since_ = now;
  phase_ = phase;
  deadline_ = now + deadline.count();
}

std::optional<std::int64_t> HttpSession::waits_since(bool& idle) const {
  if (phase_ != Phase::head) return std::nullopt;
  idle = requests_ != 0;
  return since_;
}

void HttpSession::begin() {
  set(Phase::head, host_->settings.for_handshake);
  since_ = steady_now();
  asio::post(socket_.get_executor(), [self = shared_from_this()] {
    if (!self->tls_) return self->read();
    self->tls_->async_handshake(asio::ssl::stream_base::server, [self](const Code& error) {
      if (error) return self->end();
      self->read();
    });
  });
}

// ---- reading

// Waits for the next request, or for more of this one.
void HttpSession::read() {
  if (ended_) return;
  if (!parser_) {
    parser_.emplace();
    parser_->header_limit(static_cast<std::uint32_t>(HttpServer::kLargestHead));
    parser_->body_limit(UINT64_MAX);  // set once the head is known
    head_seen_ = false;
    const bool first = requests_ == 0;
    set(Phase::head, first || buffer_.size() != 0 ? host_->settings.for_head : host_->settings.idle);
    if (buffer_.size() != 0) return parse();  // the next request came with this one
  }
  const std::size_t piece = large_ ? kLargePiece : kPiece;
  reading_ = true;
  with_stream([&](auto& stream) {
    stream.async_read_some(
        buffer_.prepare(piece),
        [self = shared_from_this()](const Code& error, std::size_t bytes) { self->come(error, bytes); });
  });
}

void HttpSession::come(const Code& error, std::size_t bytes) {
  reading_ = false;
  if (ended_ || phase_ == Phase::answering) return;  // it was refused meanwhile
  if (phase_ == Phase::closing) return error ? end() : drain(bytes);
  if (error) {
    // Half a request is no request; between two it is the usual end.
    if (parser_ && parser_->got_some() && error == asio::error::eof && phase_ == Phase::body) {
      host_->handler.refused();
      return refuse(problem(400, "the body did not come whole"));
    }
    return end();
  }
  if (phase_ == Phase::head && buffer_.size() == 0 && requests_ != 0)
    set(Phase::head, host_->settings.for_head);  // it begins
  buffer_.commit(bytes);
  parse();
}

void HttpSession::parse() {
  namespace http = beast::http;
  while (!ended_) {
    Code error;
    if (buffer_.size() != 0 && !parser_->is_done()) buffer_.consume(parser_->put(buffer_.data(), error));
    if (error == http::error::need_more) error = {};
    if (error == http::error::header_limit)
      return refuse(problem(431, "the head of the request is larger than 24 KiB",
                            "send long conditions in the body of a POST"));
    if (error == http::error::body_limit) {
      host_->handler.refused();
      return refuse(problem(413, "the body is larger than " + std::to_string(admission_.most_body) + " bytes",
                            "send less at once"));
    }
    if (error) {
      if (head_seen_) host_->handler.refused();
      return refuse(problem(error == http::error::bad_version ? 505 : 400,
                            "this is not a request of HTTP/1.1: " + error.message()));
    }
    if (!head_seen_ && parser_->is_header_done()) {
      head_seen_ = true;
      return see_head();
    }
    if (head_seen_ && parser_->is_done()) return see_body();
    if (buffer_.size() > kMostBuffered) {
      if (head_seen_) host_->handler.refused();
      return refuse(problem(head_seen_ ? 400 : 431, head_seen_ ? "the head of a chunk is too long"
                                                               : "the head of the request is too long"));
    }
    if (head_seen_) {
      if (is_too_slow()) return late();
      const std::size_t have = parser_->get().body().size();
      if (!large_ && have > HttpServer::kSmallBody) return go_on_with_body();
      deadline_ = std::min(steady_now() + std::chrono::nanoseconds(host_->settings.grace).count(),
                           body_began_ + std::chrono::nanoseconds(host_->settings.for_body).count());
    }
    return read();
  }
}

bool HttpSession::is_too_slow() const {
  const std::int64_t spent = steady_now() - body_began_;
  const bool wanted = has_slot_ && host_->slots_wanted();
  const std::int64_t grace = wanted ? 1'000'000'000 : std::chrono::nanoseconds(host_->settings.grace).count();
  const double rate = static_cast<double>(wanted ? kEagerRate : host_->settings.least_rate);
  return spent > grace &&
         static_cast<double>(parser_->get().body().size()) < static_cast<double>(spent - grace) / 1e9 * rate;
}

// What the head alone says against the request; else `admission_` is set.
std::optional<HttpAnswer> HttpSession::check_head() {
  namespace http = beast::http;
  const auto& message = parser_->get();
  request_ = {};
  const auto text = [](beast::string_view s) { return std::string(s.data(), s.size()); };
  request_.method = text(message.method_string());
  request_.target = text(message.target());
  request_.peer = peer_;
  request_.port = port_;
  unsigned hosts = 0, credentials = 0;
  for (const auto& field : message) {
    request_.headers.emplace_back(text(field.name_string()), text(field.value()));
    hosts += field.name() == http::field::host;
    credentials += field.name() == http::field::authorization;
  }
  if (message.version() != 11 && message.version() != 10) return problem(505, "this is not HTTP/1.1");
  if (hosts > 1 || credentials > 1) return problem(400, "`Host` and `Authorization` may stand once");
  if (hosts == 0 && message.version() == 11) return problem(400, "`Host` is missing");
  // Who reads a message's length in two ways can be lied to (RFC 9112, section 6.3).
  if (const std::string_view coding = request_.header("Transfer-Encoding"); !coding.empty()) {
    if (!beast::iequals({coding.data(), coding.size()}, "chunked"))
      return problem(501, "the Transfer-Encoding is not `chunked`");
    if (message.version() == 10) return problem(400, "HTTP/1.0 has no Transfer-Encoding");
    if (!request_.header("Content-Length").empty())
      return problem(400, "a body has one length: not `Transfer-Encoding` and `Content-Length`");
  }
  const std::string_view host = request_.header("Host");
  if (host_->on_loopback && hosts != 0 && !is_loopback_name(host) && !is_one_of(host_->settings.hosts, host))
    return problem(421, "this address is not called so",
                   "it listens on the loopback: ask 127.0.0.1 or localhost");
  if (const std::string_view origin = request_.header("Origin"); !origin.empty()) {
    const std::size_t scheme = origin.find("://");
    if (scheme == std::string_view::npos || origin.substr(scheme + 3) != host)
      return problem(403, "pages of other sites may not call this");
  }
  is_head_ = request_.method == "HEAD";
  if (is_head_) request_.method = "GET";
  const std::string_view target = request_.target;
  const std::size_t question = std::min(target.find('?'), target.size());
  if (!target.starts_with('/')) return problem(400, "the target of the request is not a path");
  request_.path = percent_decoded(target.substr(0, question), false);
  auto parameters = parameters_of(target.substr(std::min(target.size(), question + 1)));
  if (!parameters)
    return problem(400, "there are more than " + std::to_string(kMostParameters) + " parameters");
  request_.parameters = std::move(*parameters);
  if (const std::string_view expects = request_.header("Expect");
      !expects.empty() && !beast::iequals({expects.data(), expects.size()}, "100-continue"))
    return problem(417, "nothing but 100-continue can be expected");
  admission_ = host_->handler.admit(request_);
  if (admission_.refusal) return std::move(admission_.refusal);
  const auto declared = parser_->content_length();
  const auto too_large = [&]() -> HttpAnswer {
    host_->handler.refused();
    return problem(413, "the body is larger than " + std::to_string(admission_.most_body) + " bytes",
                   "send less at once");
  };
  if (declared && *declared > admission_.most_body) return too_large();
  const std::string_view coding = request_.header("Content-Encoding");
  if (!is_coding(coding)) {
    host_->handler.refused();
    return problem(415, "the Content-Encoding `" + std::string(coding.substr(0, 40)) + "` is not known",
                   "send gzip, deflate, zstd or identity");
  }
  return std::nullopt;
}

void HttpSession::see_head() {
  body_began_ = steady_now();
  large_ = false;
  if (auto refusal = check_head()) return refuse(std::move(*refusal));
  parser_->body_limit(admission_.most_body);
  parser_->eager(true);
  set(Phase::body, host_->settings.grace);
  if (request_.header("Expect").empty() || parser_->is_done() || buffer_.size() != 0) {
    const auto declared = parser_->content_length();
    return declared && *declared > HttpServer::kSmallBody ? go_on_with_body() : parse();
  }
  out_ = "HTTP/1.1 100 Continue\r\n\r\n";
  with_stream([&](auto& stream) {
    asio::async_write(stream, asio::buffer(out_),
                      [self = shared_from_this()](const Code& error, std::size_t) {
                        if (error) return self->end();
                        const auto declared = self->parser_->content_length();
                        if (declared && *declared > HttpServer::kSmallBody)
                          self->go_on_with_body();
                        else
                          self->parse();
                      });
  });
}

// Reads on once there is a slot for a large body.
void HttpSession::go_on_with_body() {
  if (!has_slot_) {
    set(Phase::slot, host_->settings.for_body);
    if (!host_->take_slot(shared_from_this())) return;
    has_slot_ = true;
  }
  large_ = true;
  body_began_ = steady_now();
  set(Phase::body, host_->settings.grace);
  parse();
}

void HttpSession::slot_is_there() {
  asio::post(socket_.get_executor(), [self = shared_from_this()] {
    if (self->ended_ || self->phase_ != Phase::slot) return self->host_->give_slot();
    self->has_slot_ = true;
    self->go_on_with_body();
  });
}

void HttpSession::release_slot() {
  if (std::exchange(has_slot_, false)) host_->give_slot();
}

// ---- working

void HttpSession::see_body() {
  ++requests_;
  left_ = std::make_shared<std::atomic<bool>>(false);
  request_.left = left_;
  set(Phase::working, std::chrono::hours(24));
  request_.body = std::move(parser_->get().body());
  host_->run(admission_.lane, [self = shared_from_this()] { self->work(); });
}

// By a worker.
void HttpSession::work() {
  HttpAnswer done;
  const std::string coding(request_.header("Content-Encoding"));
  try {
    bool sound = true;
    if (!coding.empty() && coding != "identity") {
      auto text = decoded(coding, request_.body, admission_.most_body);
      sound = static_cast<bool>(text);
      if (sound) {
        request_.body = std::move(*text);
      } else {
        host_->handler.refused();
        done =
            text.problem().length == 0
                ? problem(413, "the body is larger than " + std::to_string(admission_.most_body) + " bytes",
                          "send less at once")
                : problem(400, "the body is " + text.problem().message);
      }
    }
    if (sound) done = host_->handler.handle(request_);
  } catch (const std::exception& error) {
    done = problem(500, std::string("this could not be done: ") + error.what(),
                   "`dingle status` may know more; the program goes on");
  }
  if (!done.stream && done.status == 200) {
    if (request_.method == "GET") {
      char tag[20];
      const int size =
          std::snprintf(tag, sizeof tag, "\"%016llx\"",
                        static_cast<unsigned long long>(XXH3_64bits(done.body.data(), done.body.size())));
      const std::string_view own(tag, static_cast<std::size_t>(size));
      if (request_.header("If-None-Match").find(own) != std::string_view::npos)
        done.status = 304, done.body.clear();
      done.headers.emplace_back("ETag", "W/" + std::string(own));
    }
    if (done.body.size() >= kWorthCompressing &&
        request_.header("Accept-Encoding").find("gzip") != std::string_view::npos) {
      done.body = gzipped(done.body);
      done.headers.emplace_back("Content-Encoding", "gzip");
      done.headers.emplace_back("Vary", "Accept-Encoding");
    }
  }
  asio::post(socket_.get_executor(), [self = shared_from_this(), answer = std::move(done)]() mutable {
    self->release_slot();
    self->answer(std::move(answer));
  });
}

// Called now and then, from outside.
void HttpSession::look(std::int64_t now) {
  const bool is_late = now > deadline_;
  const bool works = phase_ == Phase::working && now - since_ > std::chrono::nanoseconds(kLooksAfter).count();
  if (!is_late && !works) return;
  asio::post(socket_.get_executor(), [self = shared_from_this(), is_late] {
    if (self->ended_) return;
    if (!is_late) return self->probe();
    if (steady_now() > self->deadline_) self->late();
  });
}

// Whether the caller of a request that is in work is still there. One that has closed its side may wait for the answer all the same: it
// is sent an interim answer (RFC 9110, section 15.2), which only who has gone turns away.
void HttpSession::probe() {
  if (phase_ != Phase::working || probing_) return;
  char byte = 0;
  const ssize_t n = ::recv(socket_.native_handle(), &byte, 1, MSG_PEEK | MSG_DONTWAIT);
  if (n < 0 && errno != EAGAIN && errno != EWOULDBLOCK && errno != EINTR) {
    *left_ = true;
    return;
  }
  if (n != 0) return;
  half_closed_ = true;
  if (parser_->get().version() != 11) return;
  probing_ = true;
  out_ = "HTTP/1.1 102 Processing\r\n\r\n";
  with_stream([&](auto& stream) {
    asio::async_write(stream, asio::buffer(out_),
                      [self = shared_from_this()](const Code& error, std::size_t) {
                        self->probing_ = false;
                        if (error) *self->left_ = true;
                        if (self->waiting_) self->answer(*std::exchange(self->waiting_, std::nullopt));
                      });
  });
}

// Its time is over.
void HttpSession::late() {
  ++host_->timed_out;
  const bool begun = (phase_ == Phase::head && parser_ && parser_->got_some()) || phase_ == Phase::body ||
                     phase_ == Phase::slot;
  if (!begun) return end();
  if (head_seen_) host_->handler.refused();
  deadline_ = INT64_MAX;
  if (phase_ == Phase::slot)
    return refuse(problem(503, "other large requests are being read", "send it again later"));
  refuse(problem(408, "the request comes too slowly"));
}

}  // namespace dingle
