// Sending to a source that listens.
#pragma once

#include <arpa/inet.h>
#include <gtest/gtest.h>
#include <sys/socket.h>
#include <unistd.h>

#include <string>
#include <string_view>

#include "tests/end_to_end/daemon.h"

namespace dingle {

// Where a source listens for that transport.
inline std::string port_of(Daemon& daemon, const std::string& transport) {
  std::string port = "0";
  EXPECT_TRUE(eventually([&] {
    const Json status = daemon.status();
    for (const Json& source : status["sources"])
      for (const Json& text : source.value("listening", Json::array()))
        if (const auto t = text.get<std::string>(); t.starts_with(transport))
          port = t.substr(t.rfind(':') + 1);
    return port != "0";
  })) << "it does not listen";
  return port;
}

// A socket of a test's.
class Sender {
 public:
  Sender(const std::string& port, int type) : fd_(::socket(AF_INET, type | SOCK_CLOEXEC, 0)) {
    sockaddr_in to{};
    to.sin_family = AF_INET;
    to.sin_port = htons(static_cast<std::uint16_t>(std::stoi(port)));
    to.sin_addr.s_addr = htonl(INADDR_LOOPBACK);
    EXPECT_EQ(::connect(fd_, reinterpret_cast<sockaddr*>(&to), sizeof to), 0);
  }
  ~Sender() { ::close(fd_); }
  void send(std::string_view bytes) {
    while (!bytes.empty()) {
      const ssize_t n = ::send(fd_, bytes.data(), bytes.size(), MSG_NOSIGNAL);
      ASSERT_GT(n, 0);
      bytes.remove_prefix(static_cast<std::size_t>(n));
    }
  }
  void close() { ::shutdown(fd_, SHUT_WR); }

 private:
  int fd_;
};

}  // namespace dingle
