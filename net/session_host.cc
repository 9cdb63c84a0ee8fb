#include "net/session_host.h"

#include <algorithm>
#include <chrono>
#include <tuple>
#include <utility>

#include "net/session.h"

namespace dingle {

SessionHost::SessionHost(HttpHandler& taker, HttpSettings with)
    : handler(taker), settings(std::move(with)), slots_(settings.large_bodies) {
  for (const std::size_t most : settings.lanes) lanes_.push_back(std::make_unique<Workers>(most));
}

void SessionHost::run(std::size_t lane, std::function<void()> work) {
  lanes_[std::min(lane, lanes_.size() - 1)]->run(std::move(work));
}

void SessionHost::end_workers() {
  for (const auto& lane : lanes_) lane->end();
}

bool SessionHost::add(const std::shared_ptr<HttpSession>& session) {
  ++accepted;
  std::lock_guard lock(mutex_);
  const auto peer = of_peer_.find(session->peer());
  const bool too_many_of_it = peer != of_peer_.end() && peer->second >= settings.of_one_peer;
  if (too_many_of_it || sessions_.size() >= settings.connections)
    if (!displace(too_many_of_it ? &session->peer() : nullptr)) return false;
  sessions_.insert(session);
  ++of_peer_[session->peer()];
  return true;
}

bool SessionHost::make_room() {
  std::lock_guard lock(mutex_);
  return displace(nullptr);
}

// Of those that wait, first who never had a request. To look at all of them takes time, so of many a few go at once.
bool SessionHost::displace(const std::string* peer) {
  using Waiting = std::tuple<bool, std::int64_t, std::shared_ptr<HttpSession>>;
  std::vector<Waiting> all;
  for (const auto& session : sessions_) {
    if (peer != nullptr && session->peer() != *peer) continue;
    bool idle = false;
    if (const auto since = session->waits_since(idle)) all.emplace_back(idle, *since, session);
  }
  constexpr std::size_t kShare = 64;
  const auto end = all.begin() + static_cast<std::ptrdiff_t>(std::min(all.size(), 1 + all.size() / kShare));
  std::nth_element(all.begin(), end, all.end());
  for (auto it = all.begin(); it != end; ++it) {
    const auto& session = std::get<2>(*it);
    ++displaced;
    const auto of_peer = of_peer_.find(session->peer());
    if (of_peer != of_peer_.end() && --of_peer->second == 0) of_peer_.erase(of_peer);
    sessions_.erase(session);
    session->cut();
  }
  return !all.empty();
}

void SessionHost::remove(const std::shared_ptr<HttpSession>& session) {
  std::lock_guard lock(mutex_);
  if (sessions_.erase(session) == 0) return;
  const auto it = of_peer_.find(session->peer());
  if (it != of_peer_.end() && --it->second == 0) of_peer_.erase(it);
}

std::vector<std::shared_ptr<HttpSession>> SessionHost::sessions() const {
  std::lock_guard lock(mutex_);
  return {sessions_.begin(), sessions_.end()};
}

std::size_t SessionHost::size() const {
  std::lock_guard lock(mutex_);
  return sessions_.size();
}

void SessionHost::sweep() {
  const std::int64_t now = std::chrono::duration_cast<std::chrono::nanoseconds>(
                               std::chrono::steady_clock::now().time_since_epoch())
                               .count();
  std::lock_guard lock(mutex_);
  for (const auto& session : sessions_) session->look(now);
}

bool SessionHost::take_slot(const std::shared_ptr<HttpSession>& session) {
  std::lock_guard lock(mutex_);
  if (slots_ != 0) return --slots_, true;
  waiting_.push_back(session);
  ++wanted_;
  return false;
}

void SessionHost::give_slot() {
  std::shared_ptr<HttpSession> next;
  {
    std::lock_guard lock(mutex_);
    while (!next && !waiting_.empty()) {
      next = waiting_.front().lock();
      waiting_.pop_front();
      --wanted_;
    }
    if (!next) ++slots_;
  }
  if (next) next->slot_is_there();
}

}  // namespace dingle
