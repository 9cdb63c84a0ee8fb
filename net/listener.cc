#include "net/listener.h"

#include <netdb.h>
#include <sys/socket.h>
#include <unistd.h>

#include <array>
#include <cerrno>
#include <charconv>
#include <cstring>
#include <memory>
#include <utility>

namespace dingle {
namespace {

constexpr int kBacklog = 4096;           // the system may take fewer
constexpr int kReceiveBuffer = 4 << 20;  // asked for; the system may give less

}  // namespace

HostPort host_and_port(const std::string& address) {
  HostPort parts;
  const std::size_t colon = address.rfind(':');
  if (colon == std::string::npos || colon == 0) return parts;
  parts.host = address.substr(0, colon);
  if (parts.host.front() == '[' && parts.host.back() == ']')
    parts.host = parts.host.substr(1, parts.host.size() - 2);
  else if (parts.host.find(':') != std::string::npos)
    return parts;
  unsigned port = 0;
  const char *begin = address.data() + colon + 1, *end = address.data() + address.size();
  const auto read = std::from_chars(begin, end, port);
  if (read.ec == std::errc() && read.ptr == end && port <= 65535) parts.port = std::to_string(port);
  return parts;
}

Socket& Socket::operator=(Socket&& other) noexcept {
  std::swap(fd_, other.fd_);
  return *this;
}
Socket::~Socket() {
  if (fd_ >= 0) ::close(fd_);
}

std::string address_problem(const std::string& address) {
  return host_and_port(address).port.empty() ? "`" + address + "` is not an address with a port" : "";
}

Result<Socket> listen_on(const std::string& address, Transport transport) {
  const HostPort parts = host_and_port(address);
  const std::string cannot = "cannot listen on " + address + ": ";
  addrinfo hints{}, *found = nullptr;
  hints.ai_flags = AI_PASSIVE;
  hints.ai_socktype = transport == Transport::udp ? SOCK_DGRAM : SOCK_STREAM;
  if (const int error = ::getaddrinfo(parts.host.c_str(), parts.port.c_str(), &hints, &found))
    return Problem{cannot + ::gai_strerror(error), "", 0, 0};
  const std::unique_ptr<addrinfo, void (*)(addrinfo*)> all(found, ::freeaddrinfo);
  int error = 0;
  for (const addrinfo* a = found; a != nullptr; a = a->ai_next) {
    Socket s(::socket(a->ai_family, a->ai_socktype | SOCK_CLOEXEC | SOCK_NONBLOCK, a->ai_protocol));
    if (transport == Transport::tcp) reuse_address(s.fd());
    if (transport == Transport::udp)
      ::setsockopt(s.fd(), SOL_SOCKET, SO_RCVBUF, &kReceiveBuffer, sizeof kReceiveBuffer);
    if (s.is_open() && ::bind(s.fd(), a->ai_addr, a->ai_addrlen) == 0 &&
        (transport == Transport::udp || ::listen(s.fd(), kBacklog) == 0))
      return s;
    error = errno;
  }
  return Problem{cannot + std::strerror(error), "", 0, 0};
}

void reuse_address(int fd) {
  const int on = 1;
  ::setsockopt(fd, SOL_SOCKET, SO_REUSEADDR, &on, sizeof on);
}

std::string address_text(const void* address, bool port) {
  const auto* a = static_cast<const sockaddr*>(address);
  char host[NI_MAXHOST] = "", service[NI_MAXSERV] = "";
  constexpr socklen_t size = sizeof(sockaddr_storage);
  if (::getnameinfo(a, size, host, sizeof host, service, sizeof service, NI_NUMERICHOST | NI_NUMERICSERV))
    return "";
  if (!port) return host;
  return (a->sa_family == AF_INET6 ? "[" + std::string(host) + "]" : host) + ":" + service;
}

std::string local_address(int fd) {
  sockaddr_storage address{};
  socklen_t size = sizeof address;
  return ::getsockname(fd, reinterpret_cast<sockaddr*>(&address), &size) == 0 ? address_text(&address, true)
                                                                              : "";
}

std::uint32_t datagrams_dropped(int fd) {
  std::array<std::uint32_t, 16> info{};
  constexpr std::size_t kDrops = 8;  // SK_MEMINFO_DROPS of linux/sock_diag.h
  socklen_t size = sizeof info;
  return ::getsockopt(fd, SOL_SOCKET, SO_MEMINFO, info.data(), &size) == 0 ? info[kDrops] : 0;
}

}  // namespace dingle
