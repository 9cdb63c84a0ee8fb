// Bytes to and from a socket, as a test wants them.
#pragma once

#include <arpa/inet.h>
#include <gtest/gtest.h>
#include <netinet/in.h>
#include <poll.h>
#include <sys/socket.h>
#include <unistd.h>

#include <chrono>
#include <string>
#include <string_view>
#include <utility>

namespace dingle {

class RawClient {
 public:
  // `to`: an address of the loopback with a port; `from`: another one to come from.
  explicit RawClient(const std::string& to, const char* from = nullptr)
      : fd_(::socket(AF_INET, SOCK_STREAM | SOCK_CLOEXEC, 0)) {
    sockaddr_in own{}, other{};
    own.sin_family = other.sin_family = AF_INET;
    if (from != nullptr) {
      ::inet_pton(AF_INET, from, &own.sin_addr);
      EXPECT_EQ(::bind(fd_, reinterpret_cast<sockaddr*>(&own), sizeof own), 0);
    }
    other.sin_port = htons(static_cast<std::uint16_t>(std::stoi(to.substr(to.rfind(':') + 1))));
    ::inet_pton(AF_INET, to.substr(0, to.rfind(':')).c_str(), &other.sin_addr);
    connected_ = ::connect(fd_, reinterpret_cast<sockaddr*>(&other), sizeof other) == 0;
  }
  RawClient(RawClient&& other) noexcept
      : fd_(std::exchange(other.fd_, -1)), connected_(other.connected_), got_(std::move(other.got_)) {}
  RawClient& operator=(RawClient&&) = delete;
  ~RawClient() {
    if (fd_ >= 0) ::close(fd_);
  }
  bool connected() const { return connected_; }
  bool send(std::string_view bytes) {
    while (!bytes.empty()) {
      const ssize_t n = ::send(fd_, bytes.data(), bytes.size(), MSG_NOSIGNAL);
      if (n <= 0) return false;
      bytes.remove_prefix(static_cast<std::size_t>(n));
    }
    return true;
  }
  void half_close() { ::shutdown(fd_, SHUT_WR); }
  void reset() {  // the connection, as a program does that ends in the middle
    const linger at_once{1, 0};
    ::setsockopt(fd_, SOL_SOCKET, SO_LINGER, &at_once, sizeof at_once);
    ::close(std::exchange(fd_, -1));
  }
  // What comes until that text is there, or nothing more comes.
  std::string until(std::string_view text, std::chrono::seconds limit = std::chrono::seconds(30)) {
    const auto end = std::chrono::steady_clock::now() + limit;
    while (got_.find(text) == std::string::npos && std::chrono::steady_clock::now() < end && more()) {
    }
    const std::size_t at = got_.find(text);
    const std::size_t size = at == std::string::npos ? got_.size() : at + text.size();
    std::string came = got_.substr(0, size);
    got_.erase(0, size);
    return came;
  }
  // All that comes until the other side closes; then `closed`.
  std::string rest() { return until("\xff never"); }
  bool closed() const { return closed_; }

 private:
  bool more() {
    if (closed_) return false;
    pollfd p{fd_, POLLIN, 0};
    if (::poll(&p, 1, 100) <= 0) return true;
    char bytes[16 * 1024];
    const ssize_t n = ::recv(fd_, bytes, sizeof bytes, 0);
    closed_ = n <= 0;
    if (n > 0) got_.append(bytes, static_cast<std::size_t>(n));
    return !closed_;
  }
  int fd_;
  bool connected_ = false, closed_ = false;
  std::string got_;
};

}  // namespace dingle
