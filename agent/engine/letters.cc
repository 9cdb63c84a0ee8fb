#include "agent/engine/letters.h"

#include <filesystem>

#include "store/sqlite.h"

namespace dingle {

Letters::Letters(std::string path) : path_(std::move(path)) {}
Letters::~Letters() = default;

Connection& Letters::connection() {
  if (!connection_) {
    auto c =
        std::make_unique<Connection>(path_, SQLITE_OPEN_READWRITE | SQLITE_OPEN_CREATE | SQLITE_OPEN_NOMUTEX);
    c->run(
        "PRAGMA journal_mode=WAL; PRAGMA synchronous=FULL;"
        "CREATE TABLE IF NOT EXISTS letter(destination INTEGER, epoch INTEGER, number INTEGER, ordinal "
        "INTEGER, at INTEGER, attempts INTEGER, reason TEXT, event TEXT,"
        " PRIMARY KEY(destination, epoch, number, ordinal)) WITHOUT ROWID");
    connection_ = std::move(c);
  }
  return *connection_;
}

bool Letters::keep(const std::vector<Letter>& letters, std::string* problem) {
  std::lock_guard lock(mutex_);
  try {
    Transaction transaction(connection());
    Statement s(connection().get(), "INSERT OR IGNORE INTO letter VALUES(?, ?, ?, ?, ?, ?, ?, ?)");
    for (const Letter& l : letters) {
      s.bind(1, std::uint64_t{l.destination})
          .bind(2, l.number.epoch)
          .bind(3, l.number.number)
          .bind(4, std::uint64_t{l.ordinal})
          .bind(5, l.at)
          .bind(6, std::uint64_t{l.attempts});
      s.bind_text(7, l.reason).bind_text(8, l.event).run();
    }
    transaction.commit();
    return true;
  } catch (const SqliteError& error) {
    *problem = std::string("dead letters cannot be kept: ") + error.what();
    return false;
  }
}

std::uint64_t Letters::count(std::uint32_t destination) {
  std::lock_guard lock(mutex_);
  if (!connection_ && !std::filesystem::exists(path_)) return 0;
  try {
    Statement s(connection().get(), "SELECT count(*) FROM letter WHERE destination = ?");
    s.bind(1, std::uint64_t{destination});
    return s.step() ? s.number(0) : 0;
  } catch (const SqliteError&) {
    return 0;
  }
}

}  // namespace dingle
