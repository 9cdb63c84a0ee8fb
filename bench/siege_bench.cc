// Thousands of connections that send nothing or a byte a second, at the API and at an `http` source, and what that does to those who
// mean it; requests that cost memory without a token; and the pace of both without a siege.
#include <fmt/format.h>
#include <sys/resource.h>
#include <sys/stat.h>
#include <unistd.h>

#include <algorithm>
#include <atomic>
#include <chrono>
#include <filesystem>
#include <fstream>
#include <thread>

#include "bench/report.h"
#include "bench/running_program.h"
#include "tests/end_to_end/caller.h"
#include "tests/end_to_end/daemon.h"
#include "tests/net/raw_client.h"

namespace dingle {
namespace {

using Clock = std::chrono::steady_clock;
using namespace std::chrono_literals;

double seconds_from(Clock::time_point begin) {
  return std::chrono::duration<double>(Clock::now() - begin).count();
}

double memory_of(int process) {  // MiB
  const std::string text = read_file("/proc/" + std::to_string(process) + "/status");
  const std::size_t at = text.find("VmRSS:");
  return at == std::string::npos ? 0 : std::stod(text.substr(at + 6)) / 1024;
}

void raise_descriptors() {
  rlimit files{};
  ::getrlimit(RLIMIT_NOFILE, &files);
  files.rlim_cur = files.rlim_max;
  ::setrlimit(RLIMIT_NOFILE, &files);
}

constexpr const char* kConfiguration =
    "sources: { customs: { http: { listen: '127.0.0.1:0' } } }\n"
    "pipelines: { p: { from: [customs], steps: [ parse: { templates: ['ship {ship:word} n={n:int}'] } ], to: "
    "[to] } }\n"
    "destinations: { to: { nowhere: {} } }\n";

std::string source_of(Daemon& daemon) {
  std::string at;
  eventually([&] {
    for (const Json& text : daemon.status()["sources"][0].value("listening", Json::array())) at = text;
    return !at.empty();
  });
  return at.substr(at.find(' ') + 1);
}

std::string lines(int n) {
  std::string all;
  for (int i = 0; i < n; ++i) all += fmt::format("ship Gannet n={}\n", i);
  return all;
}

// A client that posts 500 lines at a time, at most `most` a second (0: as many as it can); lines a second.
double posts(const std::string& to, std::chrono::seconds time, std::atomic<int>& failed, double most = 0) {
  Caller client("http://" + to);
  const std::string body = lines(500);
  const auto begin = Clock::now();
  std::size_t sent = 0;
  while (Clock::now() - begin < time) {
    if (most != 0)
      std::this_thread::sleep_until(begin + std::chrono::duration<double>(static_cast<double>(sent) / most));
    if (client.post("/", body).status == 200)
      sent += 500;
    else
      ++failed;
  }
  return static_cast<double>(sent) / seconds_from(begin);
}

double percentile_99(std::vector<double> all) {
  std::sort(all.begin(), all.end());
  return all.empty() ? 0 : all[all.size() * 99 / 100];
}

void siege(benchmark::State& state) {
  constexpr int kEach = 5000;
  raise_descriptors();
  Daemon daemon(kConfiguration);
  daemon.start();
  const std::string source = source_of(daemon), api = daemon.address();
  for (auto _ : state) {
    const double before = memory_of(daemon.pid());
    std::vector<RawClient> callers;
    for (int i = 0; i < kEach; ++i)
      for (const std::string& to : {api, source})
        callers.emplace_back(to, fmt::format("127.0.{}.{}", 1 + i % 5, 1 + i % 20).c_str());
    std::atomic<bool> stop{false};
    std::thread trickle([&] {  // half of them, as long as they may
      const std::string head = "GET /v1/status HTTP/1.1\r\nHost: 127.0.0.1\r\nX: " + std::string(600, 'x');
      for (std::size_t at = 0; !stop; at = (at + 1) % head.size()) {
        for (std::size_t i = 0; i < callers.size() && !stop; i += 2) callers[i].send({&head[at], 1});
        for (int i = 0; i < 10 && !stop; ++i) std::this_thread::sleep_for(100ms);
      }
    });
    std::atomic<int> failed{0};
    double rate = 0, most_memory = 0;
    std::thread good([&] { rate = posts(source, 8s, failed, 25'000); });
    std::vector<double> status;
    for (int i = 0; i < 25; ++i) {
      const auto begin = Clock::now();
      if (daemon.dingle({"status"}).status != 0) ++failed;
      status.push_back(seconds_from(begin) * 1000);
      most_memory = std::max(most_memory, memory_of(daemon.pid()));
      std::this_thread::sleep_for(200ms);
    }
    good.join();
    const auto begin = Clock::now();
    daemon.terminate();
    const double stopped = seconds_from(begin);
    stop = true;
    trickle.join();
    state.counters["calls that failed"] = failed.load();
    state.counters["ms, the slowest `dingle status` (below 200)"] =
        *std::max_element(status.begin(), status.end());
    state.counters["lines a second of a good client (20 000)"] = rate;
    state.counters["MiB of memory (below 100)"] = most_memory;
    state.counters["MiB before"] = before;
    state.counters["s until SIGTERM ended it (below 11)"] = stopped;
  }
}
BENCHMARK(siege)
    ->Name("5000 silent or slow connections each at API and source/limits")
    ->Iterations(1)
    ->Unit(benchmark::kMillisecond);

// Each from one connection, without a token; KiB that the program has more meanwhile.
void without_a_token(benchmark::State& state) {
  Daemon daemon(kConfiguration);
  daemon.start();
  const std::string api = daemon.address();
  for (int i = 0; i < 50; ++i) Caller("http://" + api).get("/healthz");
  const auto cost = [&](const std::string& head, const std::string& piece) {
    const double before = memory_of(daemon.pid());
    double most = before;
    RawClient client(api);
    client.send(head);
    for (std::size_t sent = 0; sent < (std::size_t{1} << 30); sent += piece.size()) {
      if (!client.send(piece)) break;
      if (sent % (1 << 22) < piece.size()) most = std::max(most, memory_of(daemon.pid()));
    }
    most = std::max(most, memory_of(daemon.pid()));
    return std::max(0.0, most - before) * 1024;
  };
  const std::string piece(64 * 1024, 'x'), fields = "POST /healthz HTTP/1.1\r\nHost: 127.0.0.1\r\n";
  for (auto _ : state) {
    cost("GET /", piece);  // what is there once for all
    state.counters["KiB, a request line without end (below 64)"] = cost("GET /", piece);
    state.counters["KiB, a field without end"] = cost(fields + "X: ", piece);
    state.counters["KiB, a chunk without end"] =
        cost(fields + "Transfer-Encoding: chunked\r\n\r\nFFFFFFFF\r\n", piece);
    state.counters["KiB, a chunk's extension without end"] =
        cost(fields + "Transfer-Encoding: chunked\r\n\r\n1;", piece);
    state.counters["KiB, a body of 1 GiB"] = cost(fields + "Content-Length: 1073741824\r\n\r\n", piece);
  }
}
BENCHMARK(without_a_token)
    ->Name("what callers without a token cost/limits")
    ->Iterations(1)
    ->Unit(benchmark::kMillisecond);

// No siege: requests and lines a second, and the slowest of a hundred status calls beside 500 connections.
void pace(benchmark::State& state) {
  Daemon daemon(kConfiguration);
  daemon.start();
  const std::string source = source_of(daemon), api = daemon.address();
  Caller client("http://" + api, daemon.token());
  for (auto _ : state) {
    auto begin = Clock::now();
    int calls = 0;
    for (; seconds_from(begin) < 3; ++calls) client.get("/v1/status");
    state.counters["status calls a second"] = calls / seconds_from(begin);
    std::atomic<int> failed{0};
    state.counters["lines a second, one client"] = posts(source, 3s, failed);
    std::vector<std::thread> clients;
    std::atomic<double> sum{0};
    for (int i = 0; i < 4; ++i)
      clients.emplace_back([&] {
        const double rate = posts(source, 3s, failed);
        for (double had = sum; !sum.compare_exchange_weak(had, had + rate);) {
        }
      });
    for (std::thread& t : clients) t.join();
    state.counters["lines a second, four clients"] = sum.load();
    std::vector<RawClient> others;
    for (int i = 0; i < 500; ++i) others.emplace_back(api);
    std::vector<double> times;
    const auto first = Clock::now();
    for (int i = 0; i < 300 && seconds_from(first) < 20; ++i) {
      begin = Clock::now();
      if (client.get("/v1/status").status != 200) ++failed;
      times.push_back(seconds_from(begin) * 1000);
    }
    state.counters["ms, p99 of status calls beside 500 connections"] = percentile_99(times);
    state.counters["requests that failed"] = failed.load();
  }
}
BENCHMARK(pace)->Name("pace of API and source/limits")->Iterations(1)->Unit(benchmark::kMillisecond);

}  // namespace
}  // namespace dingle
