#include "tests/end_to_end/proxy.h"

#include <arpa/inet.h>
#include <netinet/in.h>
#include <poll.h>
#include <sys/socket.h>
#include <unistd.h>

#include <chrono>

namespace dingle {

using namespace std::chrono_literals;

namespace {

sockaddr_in loopback(int port) {
  sockaddr_in address{};
  address.sin_family = AF_INET;
  address.sin_addr.s_addr = htonl(INADDR_LOOPBACK);
  address.sin_port = htons(static_cast<std::uint16_t>(port));
  return address;
}

bool send_all(int fd, const char* bytes, ssize_t size) {
  while (size > 0) {
    const ssize_t n = ::send(fd, bytes, static_cast<std::size_t>(size), MSG_NOSIGNAL);
    if (n <= 0) return false;
    bytes += n;
    size -= n;
  }
  return true;
}

}  // namespace

FaultyProxy::FaultyProxy(int target_port) : target_(target_port) {
  listener_ = ::socket(AF_INET, SOCK_STREAM | SOCK_CLOEXEC, 0);
  sockaddr_in address = loopback(0);
  socklen_t size = sizeof address;
  ::bind(listener_, reinterpret_cast<sockaddr*>(&address), size);
  ::listen(listener_, 64);
  ::getsockname(listener_, reinterpret_cast<sockaddr*>(&address), &size);
  port_ = ntohs(address.sin_port);
  acceptor_ = std::thread([this] { accept_all(); });
}

FaultyProxy::~FaultyProxy() {
  stopping_ = true;
  acceptor_.join();
  for (std::thread& t : threads_) t.join();
  ::close(listener_);
}

void FaultyProxy::cut_all() { ++generation_; }

void FaultyProxy::accept_all() {
  while (!stopping_) {
    pollfd p{listener_, POLLIN, 0};
    if (::poll(&p, 1, 50) <= 0) continue;
    const int client = ::accept4(listener_, nullptr, nullptr, SOCK_CLOEXEC);
    if (client < 0) continue;
    if (refusing) {
      ::close(client);
      continue;
    }
    std::lock_guard lock(mutex_);
    threads_.emplace_back([this, client, generation = generation_.load()] { pass_on(client, generation); });
  }
}

void FaultyProxy::pass_on(int client, std::size_t generation) {
  const int server = ::socket(AF_INET, SOCK_STREAM | SOCK_CLOEXEC, 0);
  const sockaddr_in address = loopback(target_);
  bool open = ::connect(server, reinterpret_cast<const sockaddr*>(&address), sizeof address) == 0;
  char buffer[16384];
  while (open && !stopping_ && generation == generation_) {
    if (stalling) {
      std::this_thread::sleep_for(5ms);
      continue;
    }
    pollfd both[2] = {{client, POLLIN, 0}, {server, POLLIN, 0}};
    if (::poll(both, 2, 20) <= 0) continue;
    for (int i = 0; i < 2 && open; ++i) {
      if (!(both[i].revents & (POLLIN | POLLHUP | POLLERR))) continue;
      ssize_t n = ::recv(both[i].fd, buffer, sizeof buffer, 0);
      if (n <= 0) {
        open = false;
        break;
      }
      if (bytes_left >= 0) {
        const long left = bytes_left.fetch_sub(n);
        if (left < n) {  // a part of it still goes through
          bytes_left = 0;
          send_all(i == 0 ? server : client, buffer, left > 0 ? left : 0);
          open = false;
          break;
        }
      }
      open = send_all(i == 0 ? server : client, buffer, n);
    }
  }
  ::close(client);
  ::close(server);
}

}  // namespace dingle
