#include "tests/torture/outage.h"

#include <fmt/format.h>

#include <atomic>
#include <chrono>
#include <fstream>
#include <iostream>
#include <thread>

#include "tests/end_to_end/proxy.h"
#include "tests/end_to_end/servers.h"

namespace dingle {

using namespace std::chrono_literals;
using Steady = std::chrono::steady_clock;

namespace {

double resident_mib(int pid) {
  std::ifstream in("/proc/" + std::to_string(pid) + "/statm");
  long all = 0, resident = 0;
  in >> all >> resident;
  return static_cast<double>(resident) * 4096 / (1 << 20);
}

class SteadyWriter {
 public:
  SteadyWriter(Daemon& daemon, int per_second)
      : thread_([this, &daemon, per_second] {
          std::ofstream out(daemon.path("numbered.log"), std::ios::app);
          const auto begin = Steady::now();
          while (!stopping_) {
            const auto due =
                static_cast<long>(std::chrono::duration<double>(Steady::now() - begin).count() * per_second);
            for (; n < due; ++n) out << n << " ticket scanned at the second gate of northquay\n";
            out.flush();
            std::this_thread::sleep_for(10ms);
          }
        }) {}
  long stop() {
    stopping_ = true;
    thread_.join();
    return n;
  }
  std::atomic<long> n{0};

 private:
  std::atomic<bool> stopping_{false};
  std::thread thread_;
};

}  // namespace

int run_outage(double minutes, int rate) {
  PostgresServer postgres;
  FaultyProxy proxy(postgres.port());
  Daemon daemon(R"(
sources: { numbered: { files: { paths: ['{dir}/logs/*.log'] } } }
pipelines: { p: { from: [numbered], steps: [ parse: { templates: ['{n:int} {what}'] } ], to: [store, table] } }
destinations:
  store: { index: {}, queue: { limit: 16GiB } }
  table:
    postgres: { connect: ')" +
                    postgres.connect(proxy.port()) + R"(', table: numbered, columns: { n: int } }
    queue: { limit: 16GiB }
    retry: { longest: 2s }
)",
                "spool: { limit: 16GiB }");
  postgres.query("CREATE TABLE numbered(id bigserial, time timestamptz, body text, fields jsonb, n bigint)");
  daemon.start();
  std::this_thread::sleep_for(10s);  // when all is quiet for five, memory is given back
  std::cout << fmt::format("idle: RSS {:.1f} MiB\n", resident_mib(daemon.pid()));
  SteadyWriter writer(daemon, rate);
  const auto begin = Steady::now();
  double most = 0;
  auto sample = [&](const char* when) {
    const Json status = daemon.status();
    const Json table = find(status["destinations"], "table"), store = find(status["destinations"], "store");
    const double rss = resident_mib(daemon.pid());
    most = std::max(most, rss);
    std::cout << fmt::format(
                     "{:5.0f} s {:8} RSS {:5.1f} MiB  spool {:6.0f} MiB  waits {:>9}  table {:7.0f}/s  index "
                     "p50 {:.3f} s p99 "
                     "{:.3f} s\n",
                     std::chrono::duration<double>(Steady::now() - begin).count(), when, rss,
                     status["spool"]["bytes"].get<double>() / (1 << 20), table["waiting"].get<long>(),
                     table["out_per_second"].get<double>(), store["latency_seconds"]["p50"].get<double>(),
                     store["latency_seconds"]["p99"].get<double>())
              << std::flush;
    return table;
  };
  for (int i = 0; i < 3; ++i) std::this_thread::sleep_for(10s), sample("before");
  proxy.refusing = true;
  proxy.cut_all();
  const auto outage_end = Steady::now() + std::chrono::milliseconds(static_cast<long>(minutes * 60'000));
  while (Steady::now() < outage_end)
    std::this_thread::sleep_for(std::min<Steady::duration>(30s, outage_end - Steady::now())),
        sample("outage");
  proxy.refusing = false;
  const auto back = Steady::now();
  const long waited = find(daemon.status()["destinations"], "table")["waiting"],
             sent_before = find(daemon.status()["destinations"], "table")["sent"];
  double seconds = 0, drained = 0;
  for (int i = 0; i < 3000 && seconds == 0; ++i) {
    std::this_thread::sleep_for(1s);
    const Json table = i % 10 == 9 ? sample("draining") : find(daemon.status()["destinations"], "table");
    if (table["waiting"].get<long>() > 2L * rate) continue;
    seconds = std::chrono::duration<double>(Steady::now() - back).count();
    drained = table["sent"].get<double>() - static_cast<double>(sent_before);
  }
  for (int i = 0; i < 2; ++i) std::this_thread::sleep_for(10s), sample("after");
  const long written = writer.stop();
  const Json status = daemon.settled(120);
  const auto row = postgres.query(
      "SELECT count(*), count(DISTINCT n), coalesce(sum((n < before)::int), 0) FROM (SELECT n, lag(n) OVER "
      "(ORDER BY id) before FROM "
      "numbered) x")[0];
  const long there = std::stol(row[0]), distinct = std::stol(row[1]), disordered = std::stol(row[2]);
  std::cout << fmt::format(
      "{} events waited; drained in {:.0f} s at {:.0f} events/s, {:.1f} times the input rate; most RSS "
      "{:.1f} MiB; balanced: {}\n",
      waited, seconds, drained / seconds, drained / seconds / rate, most, status["balanced"].get<bool>());
  std::cout << fmt::format("{} lines: {} lost, {} doubled, {} out of order\n", written, written - distinct,
                           there - distinct, disordered);
  return written == distinct && there == distinct && disordered == 0 ? 0 : 1;
}

}  // namespace dingle
