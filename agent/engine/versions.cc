#include "agent/engine/versions.h"

#include "store/own_file.h"

namespace dingle {
namespace {

const std::string kColumns = "number, parent, ran, hash, at, times, who, note, file, why, findings";

Version read(const Statement& s, bool with_text) {
  Version v;
  v.number = s.integer(0), v.parent = s.integer(1), v.ran = s.integer(2) != 0;
  v.hash = s.blob(3);
  v.at = s.integer(4), v.times = s.integer(5);
  v.who = s.blob(6), v.note = s.blob(7), v.file = s.blob(8), v.why = s.blob(9), v.findings = s.blob(10);
  if (with_text) v.text = s.blob(11);
  return v;
}

// Calls `work`; what the file cannot do becomes a text.
template <class Work>
std::string tried(Work work) {
  try {
    work();
    return "";
  } catch (const SqliteError& error) {
    return std::string("versions of the configuration: ") + error.what();
  }
}

}  // namespace

Versions::Versions(std::string path) : path_(std::move(path)) {}
Versions::~Versions() = default;
Versions::Using::~Using() { versions_.connection_.reset(); }

Connection& Versions::connection() {
  if (!connection_)
    connection_ = open_own_file(
        path_,
        "PRAGMA journal_mode=WAL; PRAGMA synchronous=FULL;"
        "CREATE TABLE IF NOT EXISTS version(number INTEGER PRIMARY KEY AUTOINCREMENT, parent INTEGER, ran "
        "INTEGER, hash TEXT, "
        "at INTEGER, times INTEGER, who TEXT, note TEXT, file TEXT, why TEXT, findings TEXT, text TEXT)");
  return *connection_;
}

std::optional<Version> Versions::one(const std::string& where, std::int64_t number) {
  Statement s(connection().get(),
              "SELECT " + kColumns + ", text FROM version WHERE " + where + " ORDER BY number DESC LIMIT 1");
  s.bind(1, number);
  return s.step() ? std::optional(read(s, true)) : std::nullopt;
}

std::string Versions::keep(Version& v) {
  const Using in_use(*this);
  return tried([&] {
    Transaction transaction(connection());
    const auto current = one("ran = 1 AND ?1 = 0", 0), newest = one("?1 = 0", 0);
    if (v.ran && current && current->text == v.text) {
      v.number = current->number, v.parent = current->parent;
      return;
    }
    v.parent = current ? current->number : 0;
    if (!v.ran && newest && !newest->ran && newest->text == v.text) {
      Statement again(connection().get(),
                      "UPDATE version SET at = ?, times = times + 1, why = ? WHERE number = ?");
      again.bind(1, v.at).bind_text(2, v.why);
      again.bind(3, newest->number).run();
      v.number = newest->number, v.times = newest->times + 1;
    } else {
      Statement s(connection().get(),
                  "INSERT INTO version(parent, ran, hash, at, times, who, note, file, why, findings, text) "
                  "VALUES(?, ?, ?, ?, 1, ?, ?, ?, ?, ?, ?)");
      s.bind(1, v.parent).bind(2, std::int64_t{v.ran});
      s.bind_text(3, v.hash).bind(4, v.at);
      s.bind_text(5, v.who).bind_text(6, v.note).bind_text(7, v.file).bind_text(8, v.why);
      s.bind_text(9, v.findings).bind_text(10, v.text).run();
      v.number = sqlite3_last_insert_rowid(connection().get());
      Statement old(
          connection().get(),
          "DELETE FROM version WHERE ran = ?1 AND number NOT IN (SELECT number FROM version WHERE ran = ?1 "
          "ORDER BY number DESC LIMIT ?2)");
      old.bind(1, std::int64_t{v.ran}).bind(2, std::uint64_t{v.ran ? kMostRan : kMostRefused}).run();
    }
    transaction.commit();
  });
}

std::vector<Version> Versions::list(std::size_t most, std::string& problem) {
  const Using in_use(*this);
  std::vector<Version> all;
  problem = tried([&] {
    Statement s(connection().get(), "SELECT " + kColumns + " FROM version ORDER BY number DESC LIMIT ?");
    s.bind(1, std::uint64_t{most});
    while (s.step()) all.push_back(read(s, false));
  });
  return all;
}

std::optional<Version> Versions::get(std::int64_t number, std::string& problem) {
  const Using in_use(*this);
  std::optional<Version> found;
  problem = tried([&] { found = one("number = ?1", number); });
  return found;
}

std::optional<Version> Versions::current(std::string& problem) {
  const Using in_use(*this);
  std::optional<Version> found;
  problem = tried([&] { found = one("ran = 1 AND ?1 = 0", 0); });
  return found;
}

std::int64_t Versions::removed(std::string& problem) {
  const Using in_use(*this);
  std::int64_t gone = 0;
  problem = tried([&] {
    Statement s(connection().get(), "SELECT coalesce(max(number), 0) - count(*) FROM version");
    if (s.step()) gone = s.integer(0);
  });
  return gone;
}

}  // namespace dingle
