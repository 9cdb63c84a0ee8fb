#include "tests/end_to_end/servers.h"

#include <gtest/gtest.h>
#include <libpq-fe.h>
#include <signal.h>
#include <sys/wait.h>
#include <unistd.h>

#include <chrono>
#include <filesystem>
#include <fstream>
#include <thread>

#include "tests/end_to_end/caller.h"

namespace dingle {

using namespace std::chrono_literals;

namespace {

const std::string kPostgres = "/usr/lib/postgresql/15/bin/";

// A folder that the servers' own users can use.
std::string open_folder(const char* user) {
  const std::string dir = make_folder();
  std::filesystem::permissions(dir, std::filesystem::perms::all);
  if (::geteuid() == 0 && user) run_program({"/bin/chown", user, dir});
  return dir;
}

}  // namespace

bool PostgresServer::installed() { return std::filesystem::exists(kPostgres + "initdb"); }

PostgresServer::PostgresServer(bool started) : dir_(open_folder("postgres")), port_(free_port()) {
  const int pid = start_program({kPostgres + "initdb", "-D", dir_ + "/data", "-A", "trust", "-U", "postgres",
                                 "--no-sync", "--locale=C.UTF-8", "-E", "UTF8"},
                                dir_ + "-initdb.log", "postgres");
  end_program(pid, 0);
  if (started) start();
}

PostgresServer::~PostgresServer() {
  if (pid_ > 0) stop();
  std::filesystem::remove_all(dir_);
  std::filesystem::remove(dir_ + "-initdb.log");
  std::filesystem::remove(dir_ + "-server.log");
}

void PostgresServer::start() {
  // After a SIGKILL it takes a moment until its children are gone and it can start again.
  for (int attempt = 0; attempt < 50; ++attempt) {
    pid_ = start_program(
        {kPostgres + "postgres", "-D", dir_ + "/data", "-p", std::to_string(port_), "-k", dir_, "-c",
         "listen_addresses=127.0.0.1", "-c", "shared_buffers=128MB", "-c", "max_wal_size=4GB"},
        dir_ + "-server.log", "postgres");
    for (int i = 0; i < 1000; ++i) {
      if (::kill(pid_, 0) != 0) break;
      if (PQping(connect().c_str()) == PQPING_OK) return;
      int status = 0;
      if (::waitpid(pid_, &status, WNOHANG) == pid_) break;
      std::this_thread::sleep_for(20ms);
    }
    std::this_thread::sleep_for(100ms);
  }
  ADD_FAILURE() << "PostgreSQL did not start: " << read_file(dir_ + "-server.log");
}

void PostgresServer::stop() {
  end_program(pid_, SIGINT);
  pid_ = -1;
}

void PostgresServer::kill() {
  end_program(pid_, SIGKILL);
  pid_ = -1;
}

std::string PostgresServer::connect(int port) const {
  return "host=127.0.0.1 port=" + std::to_string(port ? port : port_) + " dbname=postgres user=postgres";
}

std::vector<std::vector<std::string>> PostgresServer::query(const std::string& sql) {
  PGconn* c = PQconnectdb(connect().c_str());
  PGresult* r = PQexec(c, sql.c_str());
  const ExecStatusType status = PQresultStatus(r);
  if (status != PGRES_TUPLES_OK && status != PGRES_COMMAND_OK)
    ADD_FAILURE() << sql << ": " << PQerrorMessage(c);
  std::vector<std::vector<std::string>> rows;
  for (int i = 0; i < PQntuples(r); ++i) {
    rows.emplace_back();
    for (int k = 0; k < PQnfields(r); ++k) rows.back().emplace_back(PQgetvalue(r, i, k));
  }
  PQclear(r);
  PQfinish(c);
  return rows;
}

std::string PostgresServer::value(const std::string& sql) {
  const auto rows = query(sql);
  return rows.empty() || rows[0].empty() ? "" : rows[0][0];
}

bool ClickHouseServer::installed() { return std::filesystem::exists("/usr/sbin/clickhouse-server"); }

ClickHouseServer::ClickHouseServer(bool started) : dir_(open_folder(nullptr)), port_(free_port()) {
  std::ofstream(dir_ + "/config.xml")
      << "<yandex><logger><level>warning</level><log>" << dir_ << "/log</log><errorlog>" << dir_
      << "/errors</errorlog></logger><http_port>" << port_ << "</http_port><tcp_port>" << free_port()
      << "</tcp_port><listen_host>127.0.0.1</listen_host><path>" << dir_ << "/data/</path><tmp_path>" << dir_
      << "/tmp/</tmp_path><mark_cache_size>67108864</mark_cache_size><users_config>" << dir_
      << "/users.xml</users_config></yandex>";
  std::ofstream(dir_ + "/users.xml") << "<yandex><profiles><default/></profiles><users><default><password/"
                                        "><networks><ip>::/0</ip></networks>"
                                        "<profile>default</profile><quota>default</quota></default></"
                                        "users><quotas><default/></quotas></yandex>";
  if (started) start();
}

ClickHouseServer::~ClickHouseServer() {
  if (pid_ > 0) kill();
  std::filesystem::remove_all(dir_);
}

void ClickHouseServer::start() {
  pid_ = start_program({"/usr/sbin/clickhouse-server", "--config-file=" + dir_ + "/config.xml"},
                       dir_ + "/output");
  for (int i = 0; i < 1500; ++i) {
    if (Caller(url()).get("/ping").status == 200) return;
    std::this_thread::sleep_for(20ms);
  }
  ADD_FAILURE() << "ClickHouse did not start: " << read_file(dir_ + "/errors");
}

void ClickHouseServer::stop() {
  end_program(pid_, SIGTERM);
  pid_ = -1;
}

void ClickHouseServer::kill() {
  end_program(pid_, SIGKILL);
  pid_ = -1;
}

std::string ClickHouseServer::url() const { return "http://127.0.0.1:" + std::to_string(port_); }

std::string ClickHouseServer::query(const std::string& sql, const std::string& input) {
  const HttpReply answer = Caller(url()).post("/", input.empty() ? sql : sql + "\n" + input);
  if (answer.status != 200) ADD_FAILURE() << sql << ": " << answer.error << answer.body;
  return answer.body;
}

}  // namespace dingle
