#include "agent/destinations/postgres_connection.h"

#include <poll.h>

#include <algorithm>

namespace dingle {

using namespace std::chrono_literals;
using Steady = std::chrono::steady_clock;

namespace {

std::string one_line(const char* text) {
  std::string out = text ? text : "";
  while (!out.empty() && (out.back() == '\n' || out.back() == ' ')) out.pop_back();
  std::replace(out.begin(), out.end(), '\n', ' ');
  return out;
}

PgResult none() { return nullptr; }

}  // namespace

void PgConnection::close() {
  if (connection_) PQ(PQfinish)(connection_);
  connection_ = nullptr;
}

// Keeps what happened and gives the connection up: its state is not known any more.
bool PgConnection::fail(std::string message) {
  error_ = {.message = std::move(message)};
  close();
  return false;
}

bool PgConnection::fail_waiting() {
  if (cancelled_) return fail("stopped");
  fail("no answer in time");
  error_.too_slow = true;
  return false;
}

bool PgConnection::fail(const PGresult* result) {
  const char* state = result ? PQ(PQresultErrorField)(result, PG_DIAG_SQLSTATE) : nullptr;
  const char* primary = result ? PQ(PQresultErrorField)(result, PG_DIAG_MESSAGE_PRIMARY) : nullptr;
  const char* detail = result ? PQ(PQresultErrorField)(result, PG_DIAG_MESSAGE_DETAIL) : nullptr;
  const char* column = result ? PQ(PQresultErrorField)(result, PG_DIAG_CONTEXT) : nullptr;
  error_.message = primary ? one_line(primary) : one_line(PQ(PQerrorMessage)(connection_));
  error_.state = state ? state : "";
  error_.too_slow = false;
  if (detail && !error_.of_data()) error_.message += " (" + one_line(detail) + ")";
  // "COPY gate, line 1, column user": of use is the column alone.
  if (column)
    if (const std::string context = one_line(column); context.find(", column ") != std::string::npos) {
      const std::size_t at = context.find(", column ") + 9;
      error_.message += " (column " + context.substr(at, context.find_first_of(":,", at) - at) + ")";
    }
  if (PQ(PQstatus)(connection_) != CONNECTION_OK) close();
  return false;
}

// Waits for the socket. False when cancelled or too late.
bool PgConnection::wait(bool for_writing, Steady::time_point deadline) {
  pollfd p{PQ(PQsocket)(connection_), static_cast<short>(for_writing ? POLLIN | POLLOUT : POLLIN), 0};
  while (!cancelled_) {
    if (::poll(&p, 1, 100) > 0) return true;
    if (Steady::now() > deadline) return false;
  }
  return false;
}

bool PgConnection::connect(const std::string& target, const std::string& password) {
  close();
  error_ = {};
  const char* names[] = {"dbname",   "application_name", "client_encoding",
                         "password", "tcp_user_timeout", nullptr};
  const char* values[] = {target.c_str(), "dingle", "UTF8", password.empty() ? nullptr : password.c_str(),
                          "30000",        nullptr};
  connection_ = PQ(PQconnectStartParams)(names, values, 1);
  if (connection_ == nullptr) return fail("out of memory");
  PQ(PQsetNoticeProcessor)
  (
      connection_, [](void*, const char*) {}, nullptr);
  const auto deadline = Steady::now() + timeout_;
  auto state = PGRES_POLLING_WRITING;
  while (state != PGRES_POLLING_OK) {
    if (PQ(PQstatus)(connection_) == CONNECTION_BAD || state == PGRES_POLLING_FAILED)
      return fail(one_line(PQ(PQerrorMessage)(connection_)));
    if (!wait(state == PGRES_POLLING_WRITING, deadline))
      return fail(cancelled_ ? "stopped" : "no answer while connecting");
    state = PQ(PQconnectPoll)(connection_);
  }
  PQ(PQsetnonblocking)(connection_, 1);
  return true;
}

bool PgConnection::flush(Steady::time_point deadline) {
  for (;;) {
    const int left = PQ(PQflush)(connection_);
    if (left == 0) return true;
    if (left < 0) return fail("the connection is lost: " + one_line(PQ(PQerrorMessage)(connection_)));
    if (!wait(true, deadline)) return fail_waiting();
    if (PQ(PQconsumeInput)(connection_) == 0)
      return fail("the connection is lost: " + one_line(PQ(PQerrorMessage)(connection_)));
  }
}

// The next result; nullptr with an empty error at the end.
PgResult PgConnection::next_result() {
  const auto deadline = Steady::now() + timeout_;
  if (!flush(deadline)) return none();
  while (PQ(PQisBusy)(connection_)) {
    if (!wait(false, deadline)) {
      fail_waiting();
      return none();
    }
    if (PQ(PQconsumeInput)(connection_) == 0) {
      fail("the connection is lost: " + one_line(PQ(PQerrorMessage)(connection_)));
      return none();
    }
  }
  return PgResult(PQ(PQgetResult)(connection_));
}

void PgConnection::drain() {
  const PgError kept = error_;
  while (connection_ && next_result()) {
  }
  if (connection_) error_ = kept;
}

PgResult PgConnection::run(const std::string& sql, const std::vector<std::string>& parameters) {
  error_ = {};
  if (connection_ == nullptr) return fail("not connected"), none();
  std::vector<const char*> values;
  for (const std::string& p : parameters) values.push_back(p.c_str());
  const int sent = parameters.empty()
                       ? PQ(PQsendQuery)(connection_, sql.c_str())
                       : PQ(PQsendQueryParams)(connection_, sql.c_str(), static_cast<int>(values.size()),
                                               nullptr, values.data(), nullptr, nullptr, 0);
  if (sent == 0) return fail("the connection is lost: " + one_line(PQ(PQerrorMessage)(connection_))), none();
  PgResult last = none();
  while (PgResult r = next_result()) {
    const ExecStatusType status = PQ(PQresultStatus)(r.get());
    if (status != PGRES_COMMAND_OK && status != PGRES_TUPLES_OK) {
      fail(r.get());
      if (connection_) drain();
      return none();
    }
    if (last == nullptr || PQ(PQntuples)(r.get()) > 0 || PQ(PQntuples)(last.get()) == 0) last = std::move(r);
  }
  if (connection_ == nullptr) return none();
  return last;
}

bool PgConnection::begin_copy(const std::string& sql) {
  error_ = {};
  if (connection_ == nullptr) return fail("not connected");
  if (PQ(PQsendQuery)(connection_, sql.c_str()) == 0)
    return fail("the connection is lost: " + one_line(PQ(PQerrorMessage)(connection_)));
  PgResult r = next_result();
  if (r == nullptr) return false;
  if (PQ(PQresultStatus)(r.get()) == PGRES_COPY_IN) return true;
  fail(r.get());
  if (connection_) drain();
  return false;
}

bool PgConnection::copy(std::string_view bytes) {
  const auto deadline = Steady::now() + timeout_;
  for (;;) {
    const int taken = PQ(PQputCopyData)(connection_, bytes.data(), static_cast<int>(bytes.size()));
    if (taken > 0) return true;
    if (taken < 0) {
      fail("the connection is lost: " + one_line(PQ(PQerrorMessage)(connection_)));
      return false;
    }
    if (!flush(deadline)) return false;
  }
}

bool PgConnection::end_copy(std::uint64_t& rows) {
  const auto deadline = Steady::now() + timeout_;
  for (;;) {
    const int taken = PQ(PQputCopyEnd)(connection_, nullptr);
    if (taken > 0) break;
    if (taken < 0) return fail("the connection is lost: " + one_line(PQ(PQerrorMessage)(connection_)));
    if (!flush(deadline)) return false;
  }
  bool ok = true;
  while (PgResult r = next_result())
    if (PQ(PQresultStatus)(r.get()) == PGRES_COMMAND_OK)
      rows = std::strtoull(PQ(PQcmdTuples)(r.get()), nullptr, 10);
    else if (ok)
      ok = fail(r.get());
  return ok && connection_ != nullptr;
}

std::string PgConnection::quoted(std::string_view identifier) const {
  std::string out = "\"";
  for (char c : identifier) {
    if (c == '"') out += '"';
    out += c;
  }
  return out + "\"";
}

}  // namespace dingle
