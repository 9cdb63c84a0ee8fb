// What a connection is answered, whole or piece by piece, and its end.
#include <boost/asio/write.hpp>
#include <charconv>
#include <utility>

#include "net/session.h"

namespace dingle {

namespace asio = boost::asio;
using namespace std::chrono_literals;

namespace {

constexpr std::size_t kMostDrained = 4 << 20;
constexpr auto kBetweenPieces = 100ms;
// Then an empty line tells whether somebody still listens; NDJSON readers pass over it.
constexpr unsigned kQuietPieces = 5;

}  // namespace

// ---- answering

// Of what may not have come whole: the connection ends behind it.
void HttpSession::refuse(HttpAnswer answer) {
  ++host_->refused;
  release_slot();
  answer.close = true;
  if (phase_ == Phase::answering || phase_ == Phase::closing) return end();
  set(Phase::answering, kForClosing);
  // A read may be under way; what it brings is not looked at.
  write(std::move(answer));
}

void HttpSession::answer(HttpAnswer answer) {
  if (ended_) return;
  if (probing_) return void(waiting_ = std::move(answer));
  write(std::move(answer));
}

void HttpSession::write(HttpAnswer answer) {
  const bool whole = parser_ && head_seen_ && parser_->is_done();
  const unsigned version = whole ? parser_->get().version() : 11;
  const bool keep =
      whole && parser_->keep_alive() && !answer.close && !host_->stopping && !ends_ && !half_closed_;
  const bool chunked = answer.stream && version == 11;
  out_ = version == 11 ? "HTTP/1.1 " : "HTTP/1.0 ";
  out_ += std::to_string(answer.status) + ' ' + reason_phrase(answer.status) + "\r\n";
  if (answer.status != 304 && answer.status != 204) out_ += "Content-Type: " + answer.content_type + "\r\n";
  for (const auto& [name, value] : answer.headers) out_ += name + ": " + value + "\r\n";
  const bool streams = answer.stream != nullptr;
  if (chunked)
    out_ += "Transfer-Encoding: chunked\r\n";
  else if (!streams && answer.status != 304 && answer.status != 204)
    out_ += "Content-Length: " + std::to_string(answer.body.size()) + "\r\n";
  if (!keep || (streams && !chunked))
    out_ += "Connection: close\r\n";
  else if (version == 10)
    out_ += "Connection: keep-alive\r\n";
  out_ += "\r\n";
  if (streams) return begin_stream(std::move(answer), chunked);
  if (!is_head_ || !whole) out_ += answer.body;
  set(Phase::answering,
      host_->settings.grace + std::chrono::seconds(out_.size() / host_->settings.least_rate));
  with_stream([&](auto& stream) {
    asio::async_write(
        stream, asio::buffer(out_),
        [self = shared_from_this(), keep](const Code& error, std::size_t) { self->wrote(error, keep); });
  });
}

void HttpSession::wrote(const Code& error, bool keep) {
  if (ended_) return;
  if (error) return end();
  if (!keep || host_->stopping) return close_gently();
  if (out_.capacity() > kLargePiece) out_ = std::string();
  if (buffer_.capacity() > kMostBuffered && buffer_.size() == 0) buffer_ = boost::beast::flat_buffer();
  request_ = {};
  parser_.reset();
  large_ = false;
  read();
}

void HttpSession::begin_stream(HttpAnswer answer, bool chunked) {
  stream_ = std::move(answer.stream);
  chunked_ = chunked;
  quiet_ = 0;
  set(Phase::streaming, host_->settings.grace);
  if (is_head_) stream_ = nullptr;
  timer_.emplace(socket_.get_executor());
  with_stream([&](auto& stream) {
    asio::async_write(stream, asio::buffer(out_),
                      [self = shared_from_this()](const Code& error, std::size_t) {
                        if (error || self->ended_ || !self->stream_) return self->end();
                        self->next_piece();
                      });
  });
}

void HttpSession::next_piece() {
  if (ended_) return;
  std::string piece;
  bool more = false;
  try {
    more = stream_(piece) && !host_->stopping && !ends_;
  } catch (const std::exception&) {
    return end();
  }
  if (piece.empty() && more && ++quiet_ >= kQuietPieces) piece = "\n";
  const auto wait = [self = shared_from_this()] {
    self->deadline_ = INT64_MAX;
    self->timer_->expires_after(kBetweenPieces);
    self->timer_->async_wait([self](const Code& error) {
      if (!error) self->next_piece();
    });
  };
  if (piece.empty() && more) return wait();
  quiet_ = 0;
  out_.clear();
  if (chunked_ && !piece.empty()) {
    char size[20];
    const auto end = std::to_chars(size, size + sizeof size, piece.size(), 16).ptr;
    out_.append(size, end).append("\r\n").append(piece).append("\r\n");
  } else {
    out_ = std::move(piece);
  }
  if (!more && chunked_) out_ += "0\r\n\r\n";
  set(Phase::streaming,
      host_->settings.grace + std::chrono::seconds(out_.size() / host_->settings.least_rate));
  with_stream([&](auto& stream) {
    asio::async_write(stream, asio::buffer(out_),
                      [self = shared_from_this(), more, wait](const Code& error, std::size_t) {
                        if (error || self->ended_) return self->end();
                        if (!more) return self->close_gently();
                        if (self->out_.size() > 16)
                          self->next_piece();
                        else
                          wait();
                      });
  });
}

// ---- ending

// The last answer must arrive, though what the peer sent is not all read: so its side is closed first.
void HttpSession::close_gently() {
  if (ended_) return;
  stream_ = nullptr;
  set(Phase::closing, kForClosing);
  if (tls_) {
    tls_->async_shutdown([self = shared_from_this()](const Code&) { self->end(); });
    return;
  }
  Code ignored;
  if (host_->stopping && socket_.available(ignored) == 0) return end();  // nothing that it overlooked
  socket_.shutdown(Socket::shutdown_send, ignored);
  if (!reading_) drain(0);
}

void HttpSession::drain(std::size_t read) {
  if (ended_ || read > kMostDrained) return end();
  buffer_.clear();
  socket_.async_read_some(buffer_.prepare(kPiece),
                          [self = shared_from_this(), read](const Code& error, std::size_t bytes) {
                            if (error) return self->end();
                            self->drain(read + bytes + 1);
                          });
}

void HttpSession::end() {
  if (std::exchange(ended_, true)) return;
  if (left_) *left_ = true;
  stream_ = nullptr;
  Code ignored;
  if (timer_) timer_->cancel(ignored);
  socket_.close(ignored);
  release_slot();
  host_->remove(shared_from_this());
}

void HttpSession::cut() {
  asio::post(socket_.get_executor(), [self = shared_from_this()] { self->end(); });
}

void HttpSession::stop() {
  asio::post(socket_.get_executor(), [self = shared_from_this()] {
    self->ends_ = true;
    if (self->left_) *self->left_ = true;
    if (self->phase_ != Phase::working && self->phase_ != Phase::answering &&
        self->phase_ != Phase::closing && self->phase_ != Phase::streaming)
      self->end();
  });
}

}  // namespace dingle
