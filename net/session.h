// One connection: its requests, one after another, from the first byte to the last of the answer.
//
// All of it runs on the connection's strand, but for what says that it is thread-safe.
#pragma once

#include <atomic>
#include <boost/asio/ip/tcp.hpp>
#include <boost/asio/ssl/stream.hpp>
#include <boost/asio/steady_timer.hpp>
#include <boost/beast/core/flat_buffer.hpp>
#include <boost/beast/http/parser.hpp>
#include <boost/beast/http/string_body.hpp>
#include <memory>
#include <optional>
#include <string>

#include "net/http.h"
#include "net/session_host.h"

namespace dingle {

class HttpSession final : public std::enable_shared_from_this<HttpSession> {
 public:
  using Socket = boost::asio::ip::tcp::socket;
  HttpSession(Socket socket, std::shared_ptr<SessionHost> host, std::string peer, std::uint16_t port);

  void begin();  // thread-safe; so are these
  void cut();
  void stop();  // ends when it waits for a request, or else once that is answered
  void look(std::int64_t now);
  void slot_is_there();
  const std::string& peer() const { return peer_; }
  // Since when it has waited for a request, ns; nullopt if it does not wait. `idle`: it had one before.
  std::optional<std::int64_t> waits_since(bool& idle) const;

 private:
  using Code = boost::system::error_code;
  static constexpr std::size_t kPiece = 4096, kLargePiece = 64 * 1024;  // read at once
  static constexpr std::size_t kMostBuffered = HttpServer::kLargestHead + 8 * 1024;
  static constexpr std::chrono::seconds kForClosing{2};
  enum class Phase { head, body, slot, working, answering, streaming, closing };
  void set(Phase phase, std::chrono::nanoseconds deadline);
  void read();
  void come(const Code& error, std::size_t bytes);
  void parse();
  void see_head();
  std::optional<HttpAnswer> check_head();
  void go_on_with_body();
  void see_body();
  bool is_too_slow() const;
  void work();
  void refuse(HttpAnswer answer);
  void answer(HttpAnswer answer);
  void write(HttpAnswer answer);
  void wrote(const Code& error, bool keep);
  void begin_stream(HttpAnswer answer, bool chunked);
  void next_piece();
  void late();
  void probe();
  void close_gently();
  void drain(std::size_t read);
  void end();
  void release_slot();
  template <class Work>
  void with_stream(Work work) {  // calls it with what is read from and written to
    if (tls_)
      work(*tls_);
    else
      work(socket_);
  }

  std::shared_ptr<SessionHost> host_;
  Socket socket_;
  std::optional<boost::asio::ssl::stream<Socket&>> tls_;
  const std::string peer_;
  const std::uint16_t port_;
  boost::beast::flat_buffer buffer_;
  std::optional<boost::beast::http::request_parser<boost::beast::http::string_body>> parser_;
  HttpRequest request_;
  HttpHandler::Admission admission_;
  std::shared_ptr<std::atomic<bool>> left_;
  std::string out_;  // bytes that are being written
  std::function<bool(std::string&)> stream_;
  std::optional<boost::asio::steady_timer> timer_;
  bool head_seen_ = false, is_head_ = false, chunked_ = false, has_slot_ = false, ended_ = false,
       ends_ = false, reading_ = false, large_ = false, half_closed_ = false, probing_ = false;
  unsigned quiet_ = 0;                 // pieces without anything
  std::optional<HttpAnswer> waiting_;  // for a probe to be written
  std::int64_t body_began_ = 0;
  std::atomic<Phase> phase_{Phase::head};
  std::atomic<std::int64_t> since_{0}, deadline_{INT64_MAX};
  std::atomic<std::uint64_t> requests_{0};
};

}  // namespace dingle
