// What of a syslog source outlives a reload.
#pragma once

#include <chrono>
#include <cstdint>
#include <deque>
#include <functional>
#include <list>
#include <memory>
#include <string>

#include "agent/sources/message_splitter.h"
#include "agent/sources/source.h"
#include "agent/sources/tracked_file.h"
#include "net/listener.h"

namespace dingle {

struct SyslogConnection {
  Socket socket;
  std::string sender, pending;  // pending: read and not handed in
  MessagePart part;
  std::uint64_t stream = new_stream(), position = 0;  // position: of the first byte of `pending`
  std::shared_ptr<const Resource> resource;
  bool ended = false;
  std::chrono::steady_clock::time_point heard = std::chrono::steady_clock::now();
};

// What a reload must not end: the sockets, and what came through them and was not handed in.
struct SyslogOpen {
  Socket udp, tcp;
  std::uint32_t dropped = 0;  // by the system, as far as it was counted
  std::uint64_t streams = new_stream(), received = 0;
  std::list<SyslogConnection> connections;
  struct Held {
    std::size_t bytes = 0;
    SourceBatch batch;
  };
  std::deque<Held> held;  // from UDP
  std::size_t held_bytes = 0;

  ~SyslogOpen() {
    std::uint64_t lost = 0;
    for (const Held& h : held) lost += h.batch.lines.size();
    if (lost != 0) lose(lost);
  }
  std::function<void(std::uint64_t)> lose;
};

}  // namespace dingle
