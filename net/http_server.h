// Listens for HTTP/1.1, with or without TLS: a few threads for all connections of the program, and workers for what waits.
//
// Nothing that a caller sends is believed before it is bounded. Heads, bodies and answers have deadlines and least
// rates; a caller who has not shown what lets it in costs at most 64 KiB. Where there are as many connections as may be,
// a new one takes the place of the one that has waited for its request for longest.
#pragma once

#include <chrono>
#include <memory>
#include <string>
#include <vector>

#include "net/http.h"

namespace dingle {

struct HttpSettings {
  std::string certificate = {}, key = {};  // files (PEM); empty: without TLS
  std::vector<std::string> hosts = {};     // by which it may be called, where it listens on the loopback
  std::vector<std::size_t> lanes{16};      // workers of each
  std::size_t connections = 4096;          // at once
  std::size_t of_one_peer = 2048;          // of these
  std::size_t large_bodies = 16;           // that are read at once, or are in work: those above kSmallBody
  std::chrono::milliseconds for_handshake{10'000}, for_head{10'000}, idle{60'000};
  std::chrono::milliseconds for_body{600'000};  // the whole
  std::size_t least_rate = 4096;                // bytes a second of a body or an answer, after `grace`
  std::chrono::milliseconds grace{10'000};
};

// Thread-safe.
class HttpServer {
 public:
  static constexpr std::size_t kSmallBody = 48 * 1024;
  static constexpr std::size_t kLargestHead = 24 * 1024;  // request line and fields

  // The handler outlives it.
  HttpServer(HttpHandler& handler, HttpSettings settings);
  ~HttpServer();  // stops
  HttpServer(const HttpServer&) = delete;
  HttpServer& operator=(const HttpServer&) = delete;

  // Begins to listen on "address:port" (port 0: a free one), and to serve. What is in the way, or "".
  std::string listen(const std::string& address);
  std::string address() const;  // as bound, "127.0.0.1:3464"; "" before
  // Ends all connections: those that wait for a request at once, the others once they are answered, but at that time at
  // the latest. Returns when none is left and no worker is with the handler.
  void stop(std::chrono::milliseconds within = std::chrono::milliseconds(2000));

  struct Counts {
    std::uint64_t connections = 0, accepted = 0, displaced = 0, timed_out = 0, refused = 0;
  };
  Counts counts() const;

 private:
  struct Inside;
  std::shared_ptr<void> network_;  // outlives what runs on it
  std::shared_ptr<Inside> inside_;
};

}  // namespace dingle
