// Real servers of a test's own, on the loopback, in a temporary folder: started, killed, started again.
#pragma once

#include <string>
#include <vector>

#include "tests/end_to_end/daemon.h"

namespace dingle {

class PostgresServer {
 public:
  explicit PostgresServer(bool started = true);  // makes a new cluster, and starts it
  ~PostgresServer();
  static bool installed();
  void start();
  void stop();  // fast, in an orderly way
  void kill();  // SIGKILL to all of it
  std::string connect(
      int port = 0) const;  // a connection string; of another port when there is a proxy before it
  int port() const { return port_; }
  // Rows of text; fails the test on an error.
  std::vector<std::vector<std::string>> query(const std::string& sql);
  std::string value(const std::string& sql);  // of the first row

 private:
  std::string dir_;
  int port_, pid_ = -1;
};

class ClickHouseServer {
 public:
  explicit ClickHouseServer(bool started = true);
  ~ClickHouseServer();
  static bool installed();
  void start();
  void stop();
  void kill();
  std::string url() const;
  std::string query(const std::string& sql, const std::string& input = "");

 private:
  std::string dir_;
  int port_, pid_ = -1;
};

}  // namespace dingle
