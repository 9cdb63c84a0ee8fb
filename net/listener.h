// Sockets that listen: addresses as a configuration writes them, and what the system says of them.
#pragma once

#include <cstdint>
#include <string>
#include <utility>

#include "core/result.h"

namespace dingle {

// A socket, closed with the object.
class Socket {
 public:
  Socket() = default;
  explicit Socket(int fd) : fd_(fd) {}
  Socket(Socket&& other) noexcept : fd_(other.fd_) { other.fd_ = -1; }
  Socket& operator=(Socket&& other) noexcept;
  ~Socket();
  int fd() const { return fd_; }
  int release() { return std::exchange(fd_, -1); }  // the caller closes it
  bool is_open() const { return fd_ >= 0; }

 private:
  int fd_ = -1;
};

enum class Transport { udp, tcp };

// The parts of an address such as `127.0.0.1:5514` or `[::1]:5514`. An empty port: it is not of the form.
struct HostPort {
  std::string host, port;
};
HostPort host_and_port(const std::string& address);
// What is wrong with an address such as `127.0.0.1:5514`, `[::1]:5514` or `localhost:5514`; "" if nothing.
std::string address_problem(const std::string& address);
// A socket that does not block, bound there, and listening if it is for TCP. Port 0 takes a free one.
Result<Socket> listen_on(const std::string& address, Transport transport);
std::string local_address(int fd);                         // as above, with the port that was taken
std::string address_text(const void* address, bool port);  // of a sockaddr_storage
void reuse_address(int fd);               // also right after another program had it; not while one has it
std::uint32_t datagrams_dropped(int fd);  // by the system, since no room was left for them; wraps around

}  // namespace dingle
