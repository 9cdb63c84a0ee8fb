// What the connections of one server share.
#pragma once

#include <atomic>
#include <boost/asio/ip/tcp.hpp>
#include <boost/asio/ssl/context.hpp>
#include <deque>
#include <map>
#include <memory>
#include <mutex>
#include <optional>
#include <string>
#include <unordered_set>
#include <vector>

#include "net/http_server.h"
#include "net/workers.h"

namespace dingle {

class HttpSession;

// Thread-safe.
class SessionHost {
 public:
  SessionHost(HttpHandler& taker, HttpSettings with);

  HttpHandler& handler;
  const HttpSettings settings;
  std::optional<boost::asio::ssl::context> tls;
  bool on_loopback = false;  // what listens there answers to names of the loopback alone
  std::atomic<bool> stopping{false};
  std::atomic<std::uint64_t> timed_out{0}, refused{0}, displaced{0}, accepted{0};

  void run(std::size_t lane, std::function<void()> work);
  void end_workers();

  // A new connection is there; another one may have to make room for it. False: none can, and it must go.
  bool add(const std::shared_ptr<HttpSession>& session);
  void remove(const std::shared_ptr<HttpSession>& session);
  bool make_room();  // ends the connection that has waited for its request for longest, if there is one
  std::vector<std::shared_ptr<HttpSession>> sessions() const;
  std::size_t size() const;
  void sweep();  // looks after deadlines, and whether callers are still there

  // Slots for large bodies, in the order in which they are asked for.
  bool take_slot(const std::shared_ptr<HttpSession>& session);  // false: it is told when there is one
  void give_slot();
  bool slots_wanted() const { return wanted_ != 0; }

 private:
  bool displace(const std::string* peer);
  std::vector<std::unique_ptr<Workers>> lanes_;
  mutable std::mutex mutex_;  // guards what follows
  std::unordered_set<std::shared_ptr<HttpSession>> sessions_;
  std::map<std::string, std::size_t> of_peer_;
  std::deque<std::weak_ptr<HttpSession>> waiting_;
  std::size_t slots_;
  std::atomic<std::size_t> wanted_{0};
};

}  // namespace dingle
