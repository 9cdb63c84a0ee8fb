// A thin hold on SQLite: connections and statements that close themselves, errors as exceptions of one kind
// within store/; the store turns them into outcomes at its border.
#pragma once

#include <sqlite3.h>

#include <cstdint>
#include <memory>
#include <stdexcept>
#include <string>
#include <string_view>

#include "store/checked_files.h"

namespace dingle {

class SqliteError : public std::runtime_error {
 public:
  SqliteError(int code_, const std::string& message) : std::runtime_error(message), code(code_) {}
  int code;  // SQLITE_FULL, SQLITE_BUSY, ...
};

// Whether the file is damaged, rather than not to be read now.
inline bool is_damage(const SqliteError& e) {
  return e.code == SQLITE_CORRUPT || e.code == SQLITE_NOTADB || e.code == SQLITE_IOERR_DATA ||
         e.code == SQLITE_ERROR;  // the last: a table is not there
}

// Of the last call; damage is called by its name.
inline std::string what_happened(sqlite3* db) {
  return sqlite3_extended_errcode(db) == SQLITE_IOERR_DATA
             ? "a page of the file is damaged: its checksum is another"
         : sqlite3_errcode(db) == SQLITE_NOTADB
             ? "the file is damaged, or was not written by this version of Dingle"
             : sqlite3_errmsg(db);
}

// The primary code, but for damage, which has none of its own.
inline int code_of(sqlite3* db, int code) {
  return db != nullptr && sqlite3_extended_errcode(db) == SQLITE_IOERR_DATA ? SQLITE_IOERR_DATA : code & 0xff;
}

class Statement {
 public:
  Statement(sqlite3* db, std::string_view sql) : db_(db) {
    check(sqlite3_prepare_v2(db, sql.data(), static_cast<int>(sql.size()), &statement_, nullptr));
  }
  Statement(const Statement&) = delete;
  Statement& operator=(const Statement&) = delete;
  ~Statement() { sqlite3_finalize(statement_); }

  Statement& bind(int i, std::int64_t v) { return check(sqlite3_bind_int64(statement_, i, v)), *this; }
  Statement& bind(int i, std::uint64_t v) { return bind(i, static_cast<std::int64_t>(v)); }
  // The bytes must live until the statement is reset.
  Statement& bind_blob(int i, std::string_view v) {
    return check(sqlite3_bind_blob64(statement_, i, v.data() ? v.data() : "", v.size(), SQLITE_STATIC)),
           *this;
  }
  Statement& bind_text(int i, std::string_view v) {
    return check(sqlite3_bind_text64(statement_, i, v.data() ? v.data() : "", v.size(), SQLITE_STATIC,
                                     SQLITE_UTF8)),
           *this;
  }
  bool step() {  // true: a row
    int code = sqlite3_step(statement_);
    if (code == SQLITE_ROW) return true;
    if (code != SQLITE_DONE) check(code);
    return false;
  }
  void run() {
    step();
    reset();
  }
  void reset() { sqlite3_reset(statement_); }
  int parameters() const { return sqlite3_bind_parameter_count(statement_); }
  std::int64_t integer(int column) const { return sqlite3_column_int64(statement_, column); }
  std::uint64_t number(int column) const { return static_cast<std::uint64_t>(integer(column)); }
  std::string blob(int column) const {
    const void* bytes = sqlite3_column_blob(statement_, column);
    return bytes ? std::string(static_cast<const char*>(bytes),
                               static_cast<std::size_t>(sqlite3_column_bytes(statement_, column)))
                 : std::string();
  }

 private:
  void check(int code) {
    if (code != SQLITE_OK) throw SqliteError(code_of(db_, code), what_happened(db_));
  }
  sqlite3* db_;
  sqlite3_stmt* statement_ = nullptr;
};

// To a file whose pages are checked (checked_files.h).
class Connection {
 public:
  Connection(const std::string& path, int flags) {
    int code = sqlite3_open_v2(path.c_str(), &db_, flags, checked_vfs());
    int reserved = kPageChecksum;  // of a file that is new
    if (code == SQLITE_OK) sqlite3_file_control(db_, "main", SQLITE_FCNTL_RESERVE_BYTES, &reserved);
    if (code != SQLITE_OK) {
      const std::string message = db_ ? what_happened(db_) : "out of memory";
      code = code_of(db_, code);
      sqlite3_close_v2(db_);
      throw SqliteError(code, path + ": " + message);
    }
    sqlite3_busy_timeout(db_, 10'000);
  }
  Connection(const Connection&) = delete;
  Connection& operator=(const Connection&) = delete;
  ~Connection() { sqlite3_close_v2(db_); }
  void run(const char* sql) {
    const int code = sqlite3_exec(db_, sql, nullptr, nullptr, nullptr);
    if (code == SQLITE_OK) return;
    throw SqliteError(code_of(db_, code), what_happened(db_));
  }
  sqlite3* get() const { return db_; }
  std::int64_t last_row() const { return sqlite3_last_insert_rowid(db_); }

 private:
  sqlite3* db_ = nullptr;
};

// Brings what stands in the file beside a database into it, and empties that. False: somebody reads it still.
inline bool truncate_wal(Connection& connection) {
  Statement s(connection.get(), "PRAGMA wal_checkpoint(TRUNCATE)");
  return s.step() && s.integer(0) == 0;
}

// Rolls back unless `commit` was called.
class Transaction {
 public:
  explicit Transaction(Connection& connection) : connection_(connection) {
    connection_.run("BEGIN IMMEDIATE");
  }
  Transaction(const Transaction&) = delete;
  Transaction& operator=(const Transaction&) = delete;
  ~Transaction() {
    if (!done_) sqlite3_exec(connection_.get(), "ROLLBACK", nullptr, nullptr, nullptr);
  }
  void commit() {
    connection_.run("COMMIT");
    done_ = true;
  }

 private:
  Connection& connection_;
  bool done_ = false;
};

}  // namespace dingle
