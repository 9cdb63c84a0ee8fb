// The server of the `http` source: admits requests, and hands them to whoever takes them.
//
// It outlives the source that began it: a reload must not end connections. Requests that come while nobody
// takes them wait for the next source.
#pragma once

#include <atomic>
#include <chrono>
#include <condition_variable>
#include <cstdint>
#include <memory>
#include <mutex>
#include <optional>
#include <string>

#include "net/http_server.h"

namespace dingle {

class RequestTaker {
 public:
  // Takes a request and answers it; nullopt: it stops, and took nothing. Called by many threads at once.
  virtual std::optional<HttpAnswer> take(const HttpRequest& in) = 0;
  // A request was refused before it came here. It must not wait.
  virtual void refused() = 0;

 protected:
  ~RequestTaker() = default;
};

// Thread-safe.
class RequestServer final : private HttpHandler {
 public:
  struct Settings {
    std::string listen, path, token, certificate, key;  // `listen`: address and port; files of PEM, or empty
    std::size_t longest_line = 0, largest_request = 0;  // bytes
    std::size_t at_once = 0;                            // requests that are worked on
    auto operator<=>(const Settings&) const = default;
  };
  // How long a request waits for somebody who takes it.
  static constexpr std::chrono::seconds kPatience{4};

  explicit RequestServer(Settings settings);
  ~RequestServer() override;  // ends all connections

  // Begins to listen. What is in the way; empty if nothing is.
  std::string listen();
  // That it listens on, with the port that was taken; empty as long as it does not.
  std::string address() const;
  // Requests go there from now on. `taker` stays until detach().
  void attach(RequestTaker* taker);
  // Returns when no request is with the taker any more. The next ones wait for another, or are turned away if
  // this is the end.
  void detach(bool the_end);
  void turn_away();            // requests that come from now on
  std::size_t inside() const;  // requests that are with the taker

  const Settings& settings() const { return settings_; }
  // A stream is a connection: its requests come one after another.
  std::uint64_t stream_of(const HttpRequest& in) const;
  // Where a request of so many bytes begins in its stream.
  std::uint64_t position_of(std::size_t bytes) { return taken_.fetch_add(bytes + 1); }

 private:
  Admission admit(HttpRequest& head) override;
  HttpAnswer handle(HttpRequest& in) override;
  void refused() override;

  const Settings settings_;
  const std::uint64_t streams_;          // seed of their numbers
  std::atomic<std::uint64_t> taken_{0};  // bytes
  mutable std::mutex mutex_;             // guards what follows
  std::condition_variable changed_;
  std::string address_;
  RequestTaker* taker_ = nullptr;
  std::size_t inside_ = 0;
  bool ending_ = false;
  HttpServer server_;
};

}  // namespace dingle
