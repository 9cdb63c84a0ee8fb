#include "agent/engine/letters.h"

#include <fmt/format.h>

#include <filesystem>

#include "core/options/options.h"
#include "store/own_file.h"

namespace dingle {
namespace {

// The WHERE of a choice; ids are numbers, the reason is bound as ?1.
std::string where_of(const LetterChoice& c) {
  std::string where = " WHERE (?1 = '' OR instr(reason, ?1) > 0)";
  if (c.destination) where += fmt::format(" AND destination = {}", c.destination);
  if (c.after) where += fmt::format(" AND id > {}", c.after);
  if (c.until) where += fmt::format(" AND id <= {}", c.until);
  if (!c.ids.empty()) where += fmt::format(" AND id IN ({})", fmt::join(c.ids, ","));
  return where;
}

}  // namespace

Letters::Letters(std::string path, std::uint64_t limit) : path_(std::move(path)), limit_(limit) {}
Letters::~Letters() = default;

Connection& Letters::connection() {
  if (!connection_)
    connection_ = open_own_file(
        path_,
        "PRAGMA auto_vacuum=INCREMENTAL; PRAGMA journal_mode=WAL; PRAGMA synchronous=FULL; PRAGMA "
        "secure_delete=ON;"
        "CREATE TABLE IF NOT EXISTS letter(id INTEGER PRIMARY KEY AUTOINCREMENT, destination INTEGER, epoch "
        "INTEGER, number INTEGER, ordinal INTEGER, at INTEGER, attempts INTEGER, reason TEXT, source TEXT, "
        "event TEXT, record BLOB, UNIQUE(destination, epoch, number, ordinal));"
        "CREATE TABLE IF NOT EXISTS gone(destination INTEGER PRIMARY KEY, removed INTEGER NOT NULL DEFAULT "
        "0, "
        "lost INTEGER NOT NULL DEFAULT 0);"
        "CREATE TABLE IF NOT EXISTS taken(destination INTEGER, number INTEGER, ordinal INTEGER, "
        "PRIMARY KEY(destination, number, ordinal)) WITHOUT ROWID");
  return *connection_;
}

bool Letters::keep(const std::vector<Letter>& letters, std::string* problem) {
  std::uint64_t size = bytes();
  for (const Letter& l : letters) size += l.event.size() + l.record.size() + l.reason.size();
  Lock lock(mutex_);
  if (size > limit_) {
    *problem = "the store of dead letters is full (" + format_size(limit_) +
               "): resend or discard some (dingle letters), or raise `server.letters.limit`";
    return false;
  }
  try {
    Transaction transaction(connection());
    Statement s(connection().get(),
                "INSERT OR IGNORE INTO letter(destination, epoch, number, ordinal, at, attempts, reason, "
                "source, event, record) VALUES(?, ?, ?, ?, ?, ?, ?, ?, ?, ?)");
    for (const Letter& l : letters) {
      s.bind(1, std::uint64_t{l.destination})
          .bind(2, l.number.epoch)
          .bind(3, l.number.number)
          .bind(4, std::uint64_t{l.ordinal})
          .bind(5, l.at)
          .bind(6, std::uint64_t{l.attempts});
      s.bind_text(7, l.reason).bind_text(8, l.source).bind_text(9, l.event).bind_blob(10, l.record).run();
    }
    sums_.reset();
    transaction.commit();
    return true;
  } catch (const SqliteError& error) {
    *problem = std::string("dead letters cannot be kept: ") + error.what();
    return false;
  }
}

std::uint64_t Letters::count(std::uint32_t destination) {
  Lock lock(mutex_);
  if (!connection_ && !std::filesystem::exists(path_)) return 0;
  try {
    Statement s(connection().get(), "SELECT count(*) FROM letter WHERE destination = ?");
    s.bind(1, std::uint64_t{destination});
    return s.step() ? s.number(0) : 0;
  } catch (const SqliteError&) {
    return 0;
  }
}

std::string Letters::check_file() {
  Lock lock(mutex_);
  if (!std::filesystem::exists(path_)) return "";
  std::string found;
  try {
    Statement s(connection().get(), "PRAGMA quick_check(1)");
    if (s.step()) found = s.blob(0);
  } catch (const SqliteError& error) {
    found = error.what();
  }
  if (found == "ok") return "";
  connection_.reset();
  return fmt::format("{} is damaged ({}): stop, move it away, and a new file is begun", path_, found);
}

std::string Letters::check(std::uint32_t destination, std::uint64_t set_aside) {
  Lock lock(mutex_);
  if (set_aside == 0) return "";
  try {
    Statement s(connection().get(),
                "SELECT (SELECT count(*) FROM letter WHERE destination = ?1) + "
                "coalesce((SELECT removed + lost FROM gone WHERE destination = ?1), 0)");
    s.bind(1, std::uint64_t{destination});
    const std::uint64_t known = s.step() ? s.number(0) : 0;
    if (known >= set_aside) return "";
    Statement note(connection().get(),
                   "INSERT INTO gone(destination, lost) VALUES(?1, ?2) "
                   "ON CONFLICT(destination) DO UPDATE SET lost = lost + ?2");
    note.bind(1, std::uint64_t{destination}).bind(2, set_aside - known).run();
    return fmt::format("{} were kept and are missing: {} was damaged, or is another file", set_aside - known,
                       path_);
  } catch (const SqliteError& error) {
    return fmt::format("{}: {}", path_, error.what());
  }
}

std::uint64_t Letters::lost(std::uint32_t destination) {
  Lock lock(mutex_);
  if (!connection_ && !std::filesystem::exists(path_)) return 0;
  try {
    Statement s(connection().get(), "SELECT lost FROM gone WHERE destination = ?");
    s.bind(1, std::uint64_t{destination});
    return s.step() ? s.number(0) : 0;
  } catch (const SqliteError&) {
    return 0;  // `check` told
  }
}

std::set<std::pair<std::uint64_t, std::uint32_t>> Letters::kept_behind(std::uint32_t destination,
                                                                       std::uint64_t number) {
  std::set<std::pair<std::uint64_t, std::uint32_t>> kept;
  Lock lock(mutex_);
  if (!connection_ && !std::filesystem::exists(path_)) return kept;
  try {
    Statement s(connection().get(),
                "SELECT number, ordinal FROM letter WHERE destination = ?1 AND number > ?2 "
                "UNION SELECT number, ordinal FROM taken WHERE destination = ?1 AND number > ?2");
    s.bind(1, std::uint64_t{destination}).bind(2, number);
    while (s.step()) kept.emplace(s.number(0), static_cast<std::uint32_t>(s.integer(1)));
  } catch (const SqliteError&) {
    kept.clear();  // they would be refused, and kept, once more
  }
  return kept;
}

std::vector<Letter> Letters::list(const LetterChoice& choice, std::size_t most, bool whole) {
  std::vector<Letter> all;
  Lock lock(mutex_);
  if (!connection_ && !std::filesystem::exists(path_)) return all;
  Statement s(
      connection().get(),
      std::string("SELECT id, destination, epoch, number, ordinal, at, attempts, reason, source, event, ") +
          (whole ? "record" : "''") + " FROM letter" + where_of(choice) +
          fmt::format(" ORDER BY id LIMIT {}", most));
  s.bind_text(1, choice.reason);
  while (s.step()) {
    Letter l;
    l.id = s.integer(0);
    l.destination = static_cast<std::uint32_t>(s.integer(1));
    l.number = {s.number(2), s.number(3)};
    l.ordinal = static_cast<std::uint32_t>(s.integer(4));
    l.at = s.integer(5);
    l.attempts = static_cast<std::uint32_t>(s.integer(6));
    l.reason = s.blob(7);
    l.source = s.blob(8);
    l.event = s.blob(9);
    l.record = s.blob(10);
    all.push_back(std::move(l));
  }
  return all;
}

Letters::Extent Letters::extent(const LetterChoice& choice) {
  Lock lock(mutex_);
  if (!connection_ && !std::filesystem::exists(path_)) return {};
  Statement s(connection().get(), "SELECT count(*), coalesce(max(id), 0) FROM letter" + where_of(choice));
  s.bind_text(1, choice.reason);
  return s.step() ? Extent{s.number(0), s.integer(1)} : Extent{};
}

std::vector<Letters::Sum> Letters::by_reason(const LetterChoice& choice) {
  Lock lock(mutex_);
  return sums(choice);
}

std::vector<Letters::Sum> Letters::reasons(std::uint32_t destination, std::size_t most) {
  std::vector<Sum> all;
  Lock lock(mutex_);
  try {
    if (!sums_) sums_ = sums({});
  } catch (const SqliteError&) {
    return all;
  }
  for (const Sum& sum : *sums_)
    if (sum.destination == destination && all.size() < most) all.push_back(sum);
  return all;
}

std::vector<Letters::Sum> Letters::sums(const LetterChoice& choice) {
  std::vector<Sum> all;
  if (!connection_ && !std::filesystem::exists(path_)) return all;
  Statement s(connection().get(),
              "SELECT destination, reason, count(*), min(at), max(at), min(id) FROM letter" +
                  where_of(choice) +
                  " GROUP BY destination, reason ORDER BY count(*) DESC, min(id) LIMIT 1000");
  s.bind_text(1, choice.reason);
  while (s.step())
    all.push_back({static_cast<std::uint32_t>(s.integer(0)), s.blob(1), s.number(2), s.integer(3),
                   s.integer(4), s.integer(5)});
  return all;
}

std::uint64_t Letters::remove(const LetterChoice& choice) {
  Lock lock(mutex_);
  if (!connection_ && !std::filesystem::exists(path_)) return 0;
  Transaction transaction(connection());
  Statement counted(connection().get(),
                    "INSERT INTO gone(destination, removed) SELECT destination, count(*) FROM letter" +
                        where_of(choice) +
                        " GROUP BY destination ON CONFLICT(destination) DO UPDATE SET removed = "
                        "removed + excluded.removed");
  counted.bind_text(1, choice.reason).run();
  Statement taken(
      connection().get(),
      "INSERT OR IGNORE INTO taken SELECT destination, number, ordinal FROM letter" + where_of(choice));
  taken.bind_text(1, choice.reason).run();
  may_hold_taken_ = true;
  Statement s(connection().get(), "DELETE FROM letter" + where_of(choice));
  sums_.reset();
  s.bind_text(1, choice.reason).run();
  const auto removed = static_cast<std::uint64_t>(sqlite3_changes(connection().get()));
  transaction.commit();
  connection().run("PRAGMA incremental_vacuum");
  return removed;
}

void Letters::forget_taken(std::uint32_t destination, std::uint64_t first) {
  Lock lock(mutex_);
  if (!may_hold_taken_ || (!connection_ && !std::filesystem::exists(path_))) return;
  try {
    Statement s(connection().get(), "DELETE FROM taken WHERE destination = ? AND number < ?");
    s.bind(1, std::uint64_t{destination}).bind(2, first).run();
    Statement left(connection().get(), "SELECT 1 FROM taken LIMIT 1");
    may_hold_taken_ = left.step();
  } catch (const SqliteError&) {  // the next time
  }
}

bool Letters::withdraw(std::uint32_t destination, const LogNumber& number, std::uint32_t ordinal,
                       std::string* problem) {
  Lock lock(mutex_);
  try {
    Statement s(connection().get(),
                "DELETE FROM letter WHERE destination = ? AND epoch = ? AND number = ? AND ordinal = ?");
    s.bind(1, static_cast<std::int64_t>(destination)).bind(2, number.epoch).bind(3, number.number);
    s.bind(4, static_cast<std::int64_t>(ordinal)).run();
    sums_.reset();
    return true;
  } catch (const SqliteError& error) {
    *problem = std::string("a dead letter cannot be withdrawn: ") + error.what();
    return false;
  }
}

bool Letters::scrub() {
  Lock lock(mutex_);
  return (!connection_ && !std::filesystem::exists(path_)) || truncate_wal(connection());
}

std::uint64_t Letters::bytes() {
  Lock lock(mutex_);
  if (!connection_ && !std::filesystem::exists(path_)) return 0;
  try {
    auto pragma = [&](const char* sql) REQUIRES(mutex_) {
      Statement s(connection().get(), sql);
      return s.step() ? s.number(0) : 0;
    };
    return (pragma("PRAGMA page_count") - pragma("PRAGMA freelist_count")) * pragma("PRAGMA page_size");
  } catch (const SqliteError&) {
    return 0;
  }
}

}  // namespace dingle
