// A small TCP proxy on the loopback that cuts connections in the middle, stalls, or turns callers away.
#pragma once

#include <atomic>
#include <mutex>
#include <thread>
#include <vector>

namespace dingle {

class FaultyProxy {
 public:
  explicit FaultyProxy(int target_port);
  ~FaultyProxy();
  int port() const { return port_; }

  std::atomic<bool> refusing{false};  // new connections are closed at once
  std::atomic<bool> stalling{false};  // nothing is passed on, nothing is closed
  // So many further bytes are passed on, over all connections; then each that sends is cut. Negative: no
  // limit.
  std::atomic<long> bytes_left{-1};
  void cut_all();  // all connections, now

 private:
  void accept_all();
  void pass_on(int client, std::size_t generation);
  int target_, port_ = 0, listener_ = -1;
  std::atomic<bool> stopping_{false};
  std::atomic<std::size_t> generation_{0};
  std::mutex mutex_;
  std::vector<std::thread> threads_;
  std::thread acceptor_;
};

}  // namespace dingle
