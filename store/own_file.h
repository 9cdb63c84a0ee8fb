// Files of SQLite that are their owner's alone: lines, configurations and hashes of tokens stand in them.
#pragma once

#include <fcntl.h>
#include <sys/stat.h>
#include <unistd.h>

#include <memory>
#include <string>

#include "store/sqlite.h"

namespace dingle {

// Opens the file, makes it if there is none, and runs `schema` there. It and those that SQLite makes beside it can be read by
// their owner alone. Throws SqliteError.
inline std::unique_ptr<Connection> open_own_file(const std::string& path, const char* schema) {
  if (const int fd = ::open(path.c_str(), O_RDWR | O_CREAT | O_CLOEXEC, 0600); fd >= 0) {
    ::fchmod(fd, 0600);
    ::close(fd);
  }
  auto connection =
      std::make_unique<Connection>(path, SQLITE_OPEN_READWRITE | SQLITE_OPEN_CREATE | SQLITE_OPEN_NOMUTEX);
  connection->run(schema);
  return connection;
}

}  // namespace dingle
