// A connection to PostgreSQL whose every wait is bounded and can be cancelled. A thin hold on libpq.
#pragma once

#include <libpq-fe.h>

#include <atomic>
#include <chrono>
#include <memory>
#include <string>
#include <string_view>
#include <vector>

#include "agent/destinations/late_library.h"

namespace dingle {

// libpq is loaded at first use.
#define PQ(name) DINGLE_LATE("libpq.so.5", name)

struct PgClear {
  void operator()(PGresult* result) const { PQ(PQclear)(result); }
};
using PgResult = std::unique_ptr<PGresult, PgClear>;

// What went wrong, for a person, without secrets.
struct PgError {
  std::string message;
  std::string state;      // SQLSTATE; "" if the server did not answer
  bool too_slow = false;  // it did not answer in time, once connected
  // The data are to blame, not the server: classes 22 (data), 23 (constraints), 54 (limits).
  bool of_data() const {
    return state.starts_with("22") || state.starts_with("23") || state.starts_with("54");
  }
  // An object is not there, or not as it should be.
  bool of_schema() const { return state.starts_with("42"); }
};

// One thread uses it, but for the flag.
class PgConnection {
 public:
  PgConnection(const std::atomic<bool>& cancelled, std::chrono::milliseconds timeout)
      : cancelled_(cancelled), timeout_(timeout) {}
  PgConnection(const PgConnection&) = delete;
  PgConnection& operator=(const PgConnection&) = delete;
  ~PgConnection() { close(); }

  // `target`: a connection string or URI of libpq; several hosts are tried one after another. False: see
  // error().
  bool connect(const std::string& target, const std::string& password);
  bool connected() const { return connection_ != nullptr && PQ(PQstatus)(connection_) == CONNECTION_OK; }
  void close();
  const PgError& error() const { return error_; }

  // Runs one or several statements; the last result with rows, or the last one. nullptr: see error(). After a
  // time-out or a lost connection it is closed: what became of the statements is unknown.
  PgResult run(const std::string& sql, const std::vector<std::string>& parameters = {});
  // COPY ... FROM STDIN: begin, any number of pieces, end. After a false the copy is over.
  bool begin_copy(const std::string& sql);
  bool copy(std::string_view bytes);
  // `rows`: how many the server took, as it says.
  bool end_copy(std::uint64_t& rows);

  std::string quoted(std::string_view identifier) const;  // a name, as SQL writes it

 private:
  bool wait(bool for_writing, std::chrono::steady_clock::time_point deadline);
  PgResult next_result();
  bool flush(std::chrono::steady_clock::time_point deadline);
  bool fail(std::string message);
  bool fail_waiting();
  bool fail(const PGresult* result);
  void drain();

  const std::atomic<bool>& cancelled_;
  std::chrono::milliseconds timeout_;
  PGconn* connection_ = nullptr;
  PgError error_;
};

}  // namespace dingle
