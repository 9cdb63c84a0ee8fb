// Delivery: the spool's append against a bare one, and files to servers against the quickest way to bring
// ready rows there.
#include <fcntl.h>
#include <libpq-fe.h>
#include <unistd.h>

#include <chrono>
#include <filesystem>
#include <fstream>
#include <random>
#include <thread>

#include "bench/report.h"
#include "spool/spool.h"
#include "tests/end_to_end/caller.h"
#include "tests/end_to_end/servers.h"

namespace dingle {
namespace {

using namespace std::chrono_literals;
using Clock = std::chrono::steady_clock;

double seconds_since(Clock::time_point begin) {
  return std::chrono::duration<double>(Clock::now() - begin).count();
}

// ---- spool: a 256 KiB batch, then on disk

constexpr std::size_t kBatch = 256u << 10;
constexpr int kAppends = 200;

std::string batch_bytes() {
  std::mt19937_64 random(1);
  std::string bytes(kBatch, '\0');
  for (char& c : bytes) c = static_cast<char>('a' + random() % 26);
  return bytes;
}

// With `in_use` a destination follows, so that files of segments that are done with are written again.
void spool_append(benchmark::State& state, bool in_use) {
  const std::string bytes = batch_bytes();
  for (auto _ : state) {
    std::string pattern = "/tmp/dingle-bench-XXXXXX";
    const std::string dir = ::mkdtemp(pattern.data());
    {
      SpoolSettings settings{.folder = dir + "/spool"};
      if (in_use) settings.segment_size = 16u << 20;
      auto spool = Spool::open(system_disk(), settings);
      const std::uint32_t to = (*spool)->destination("d");
      Clock::time_point begin = Clock::now();
      Spool::Read read;
      for (int i = in_use ? -kAppends : 0; i < kAppends; ++i) {
        if (i == 0) begin = Clock::now();
        Spool::Append append{{{{"checkpoint", std::to_string(i), false}}, {}}, {{to, 1000}}, bytes};
        if ((*spool)->append(append) != 0 || !(*spool)->wait_durable(10s))
          state.SkipWithError("cannot append");
        if (!in_use || !(*spool)->read(to, read.number.number, 1s, read)) continue;
        (*spool)->passed(to, read.number.number);
      }
      state.SetIterationTime(seconds_since(begin));
    }
    std::filesystem::remove_all(dir);
  }
  state.SetItemsProcessed(state.iterations() * kAppends);
}
void bare_append(benchmark::State& state) {
  const std::string bytes = batch_bytes();
  for (auto _ : state) {
    std::string pattern = "/tmp/dingle-bench-XXXXXX";
    const int fd = ::mkstemp(pattern.data());
    const auto begin = Clock::now();
    for (int i = 0; i < kAppends; ++i)
      if (::write(fd, bytes.data(), bytes.size()) < 0 || ::fdatasync(fd) != 0)
        state.SkipWithError("cannot write");
    state.SetIterationTime(seconds_since(begin));
    ::close(fd);
    ::unlink(pattern.c_str());
  }
  state.SetItemsProcessed(state.iterations() * kAppends);
}
void on_disk(benchmark::internal::Benchmark* b) {
  b->UseManualTime()->Unit(benchmark::kMillisecond)->Iterations(1);
}
BENCHMARK_CAPTURE(spool_append, fresh, false)->Name("spool append of 256 KiB/ours")->Apply(on_disk);
BENCHMARK(bare_append)->Name("spool append of 256 KiB/baseline append and fdatasync")->Apply(on_disk);
BENCHMARK_CAPTURE(spool_append, in_use, true)
    ->Name("spool append of 256 KiB, read and passed/ours")
    ->Apply(on_disk);
BENCHMARK(bare_append)
    ->Name("spool append of 256 KiB, read and passed/baseline append and fdatasync")
    ->Apply(on_disk);

// ---- servers

constexpr int kCopies = 6;  // of the access log: 720 000 lines, so that starting the program hardly counts

std::string configuration(const std::string& destination) {
  return "sources: { access: { files: { paths: ['{dir}/logs/*.log'] } } }\npipelines: { access: { from: "
         "[access], steps: [ parse: { "
         "templates: ['" +
         std::string(kAccessTemplate) +
         "'] }, time: { field: at }, omit: { fields: [at] } ], to: [to] } }\ndestinations: { to: { " +
         destination + " } }\n";
}

constexpr std::int64_t kLines = 120'000 * kCopies;

// Seconds from the start of the process until the destination has accepted all lines.
double run_to(const std::string& destination) {
  Daemon daemon(configuration(destination), "workers: 1");
  {
    std::ofstream log(daemon.path("access.log"));
    for (int i = 0; i < kCopies; ++i)
      log << std::string_view(access_log())
                 .substr(0, access_lines().back().data() + access_lines().back().size() + 1 -
                                access_log().data());
  }
  const auto begin = Clock::now();
  daemon.start();
  Caller client("http://" + daemon.address(), daemon.token());
  for (int i = 0; i < 6000; ++i) {
    const HttpReply answer = client.get("/v1/status");
    if (answer.status == 200 && Json::parse(answer.body)["destinations"][0]["sent"] == kLines)
      return seconds_since(begin);
    std::this_thread::sleep_for(10ms);
  }
  return 0;
}

template <class Work>
void timed(benchmark::State& state, Work work) {
  for (auto _ : state) {
    const double seconds = work();
    if (seconds == 0) state.SkipWithError("it did not finish");
    state.SetIterationTime(seconds);
  }
  state.SetItemsProcessed(state.iterations() * kLines);
}

// A server that runs only while it is measured: idle ones would disturb other benchmarks.
template <class Server>
struct While {
  explicit While(Server& s) : server(s) { server.start(); }
  ~While() { server.stop(); }
  Server& server;
};

PostgresServer& postgres() {
  static PostgresServer server(false);
  return server;
}
void empty_table() {
  postgres().query(
      "DROP TABLE IF EXISTS access; DROP TABLE IF EXISTS dingle_progress, dingle_sender; CREATE TABLE "
      "access(time timestamptz "
      "NOT NULL, observed timestamptz, body text, fields jsonb, pipeline text, template integer, "
      "configuration text, stream bigint, position bigint, status bigint, "
      "client inet); CREATE INDEX ON access(time); CREATE UNIQUE INDEX ON access(stream, position); "
      "CHECKPOINT");
}
double to_postgres() {
  const While running(postgres());
  empty_table();
  return run_to("postgres: { connect: '" + postgres().connect() +
                "', table: access, columns: { status: { field: http.response.status_code, type: int }, "
                "client: { field: "
                "client.address, type: ip } } }");
}
// The rows as COPY writes them; made once by our own delivery.
const std::string& ready_rows() {
  static const std::string rows = [] {
    to_postgres();
    const While running(postgres());
    std::string text;
    PGconn* c = PQconnectdb(postgres().connect().c_str());
    PQclear(PQexec(c, "COPY access TO STDOUT"));
    char* line = nullptr;
    for (int n; (n = PQgetCopyData(c, &line, 0)) > 0; PQfreemem(line))
      text.append(line, static_cast<std::size_t>(n));
    PQfinish(c);
    return text;
  }();
  return rows;
}
double copy_ready_rows() {
  const std::string& rows = ready_rows();
  const While running(postgres());
  empty_table();
  PGconn* c = PQconnectdb(postgres().connect().c_str());
  const auto begin = Clock::now();
  PQclear(PQexec(c, "COPY access FROM STDIN"));
  for (std::size_t at = 0; at < rows.size(); at += 65536)
    PQputCopyData(c, rows.data() + at, static_cast<int>(std::min<std::size_t>(65536, rows.size() - at)));
  PQputCopyEnd(c, nullptr);
  PGresult* r = PQgetResult(c);
  const double seconds = PQresultStatus(r) == PGRES_COMMAND_OK ? seconds_since(begin) : 0;
  PQclear(r);
  PQfinish(c);
  return seconds;
}

ClickHouseServer& click_house() {
  static ClickHouseServer server(false);
  return server;
}
void empty_click_house() {
  click_house().query("DROP TABLE IF EXISTS access");
  click_house().query(
      "CREATE TABLE access(day Date DEFAULT toDate(timestamp), timestamp DateTime, body String, client "
      "String, user String, "
      "method String, path String, status UInt16, size UInt32, agent String, id String) ENGINE = "
      "MergeTree(day, (timestamp), "
      "8192)");
}
const char* const kInsert =
    "/?query=INSERT%20INTO%20access%20FORMAT%20JSONEachRow&input_format_skip_unknown_fields=1";
double to_click_house() {
  const While running(click_house());
  empty_click_house();
  return run_to("batch: { events: 65536, bytes: 64MiB }, http: { requests: 2, order: none, url: '" +
                click_house().url() + kInsert +
                "', events: { fields: [timestamp, body, client.address, user, http.request.method, url.path, "
                "http.response.status_code, http.response.size, user_agent.original, dingle.id], rename: { "
                "client.address: "
                "client, http.request.method: method, url.path: path, http.response.status_code: status, "
                "http.response.size: size, user_agent.original: agent, dingle.id: id }, time: seconds } }");
}
double curl_ready_lines() {
  static const std::string file = [] {
    to_click_house();
    const While running(click_house());
    const std::string path = make_folder() + "/lines";
    std::ofstream(path) << click_house().query(
        "SELECT toUInt32(timestamp) AS timestamp, body, client, user, method, path, status, size, agent, id "
        "FROM access FORMAT "
        "JSONEachRow");
    return path;
  }();
  const While running(click_house());
  empty_click_house();
  const auto begin = Clock::now();
  const Ran ran =
      run_program({"/usr/bin/curl", "-sf", "--data-binary", "@" + file, click_house().url() + kInsert});
  return ran.status == 0 ? seconds_since(begin) : 0;
}

#define DINGLE_SERVER_BENCHMARK(function, name) \
  BENCHMARK_CAPTURE(timed, function, function)  \
      ->Name(name)                              \
      ->UseManualTime()                         \
      ->Iterations(1)                           \
      ->Unit(benchmark::kMillisecond)
DINGLE_SERVER_BENCHMARK(to_postgres, "files to postgres/ours");
DINGLE_SERVER_BENCHMARK(copy_ready_rows, "files to postgres/baseline COPY of ready rows");
DINGLE_SERVER_BENCHMARK(to_click_house, "files to ClickHouse/ours");
DINGLE_SERVER_BENCHMARK(curl_ready_lines, "files to ClickHouse/baseline one insert by curl");

}  // namespace
}  // namespace dingle
