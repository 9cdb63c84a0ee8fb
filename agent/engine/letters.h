// Dead letters: events that a destination refused for good, kept with the reason. One SQLite file,
//   letter(destination, epoch, number, ordinal, at, attempts, reason, event)
// unique by (destination, log sequence number, ordinal), so that a replay after a crash sets nothing aside
// twice.
#pragma once

#include <cstdint>
#include <memory>
#include <mutex>
#include <string>
#include <vector>

#include "spool/spool.h"

namespace dingle {

class Connection;

struct Letter {
  std::uint32_t destination = 0;
  LogNumber number;
  std::uint32_t ordinal = 0;
  std::int64_t at = 0;  // ns since 1970
  std::uint32_t attempts = 0;
  std::string reason, event;  // event: one JSON object
};

// Thread-safe.
class Letters {
 public:
  explicit Letters(std::string path);
  ~Letters();
  // Durable when it returns true. False: could not be kept (disk full), try again; `problem` says why.
  bool keep(const std::vector<Letter>& letters, std::string* problem);
  std::uint64_t count(std::uint32_t destination);

 private:
  Connection& connection();  // opened at first need
  std::mutex mutex_;
  std::string path_;
  std::unique_ptr<Connection> connection_;
};

}  // namespace dingle
