// Questions to ten million events in an index, against what grep and awk need on the text of the same lines.
#include <fmt/format.h>

#include <chrono>
#include <fstream>
#include <random>
#include <thread>

#include "bench/report.h"
#include "core/time/instant.h"
#include "tests/end_to_end/caller.h"
#include "tests/end_to_end/daemon.h"

namespace dingle {
namespace {

using namespace std::chrono_literals;
using Clock = std::chrono::steady_clock;

constexpr std::int64_t kEvents = 10'000'000, kDays = 10;
constexpr std::int64_t kBegin = 1'794'355'200;  // 2026-11-11T00:00:00Z
constexpr std::int64_t kEnd = kBegin + kDays * 86'400;

void write_lines(const std::string& path) {
  std::ofstream out(path);
  std::mt19937_64 random(7);
  static constexpr const char* kShips[] = {"Gannet", "Tern", "Eider", "Auk", "Skua", "Loon", "Petrel"};
  static constexpr const char* kPaths[] = {"/gate/open", "/gate/close", "/ticket/check", "/health",
                                           "/manifest"};
  fmt::memory_buffer text;
  for (std::int64_t i = 0; i < kEvents; ++i) {
    const std::uint64_t r = random();
    const std::int64_t at = kBegin * 1000 + i * (kDays * 86'400'000) / kEvents;
    fmt::format_to(std::back_inserter(text), "{} 192.0.2.{} GET {} {} ship={} user=u{:06}{}\n",
                   format_rfc3339(at * 1'000'000), r % 250, kPaths[r / 250 % 5],
                   r / 1250 % 50 == 0 ? 503 : 200, kShips[r / 62'500 % 7], r / 437'500 % 900'000,
                   i % (kEvents / 5) == kEvents / 7 ? " kittiwake on the ramp" : "");
    if (text.size() > (1u << 20) || i + 1 == kEvents) {
      out.write(text.data(), static_cast<std::streamsize>(text.size()));
      text.clear();
    }
  }
}

// A daemon whose index has all of them; made once.
Daemon& daemon() {
  static Daemon* d = [] {
    static Daemon made(
        "sources: { gate: { files: { paths: ['{dir}/logs/*.log'] } } }\npipelines: { gate: { from: [gate], "
        "steps: [ "
        "parse: { templates: ['{at:rfc3339} {client.address:ip} {http.request.method:word} "
        "{url.path:unspaced} "
        "{http.response.status_code:int} ship={ship:word} user={user:word}{[} {note}{]}'] }, time: { field: "
        "at }, "
        "omit: { fields: [at] } ], to: [to] } }\ndestinations: { to: { index: { name: 'gate-{day}' } } }\n");
    write_lines(made.path("gate.log"));
    made.start();
    for (int i = 0; i < 6000 && made.status()["destinations"][0]["sent"] != kEvents; ++i)
      std::this_thread::sleep_for(100ms);
    return &made;
  }();
  return *d;
}

void took(benchmark::State& state, Clock::time_point begin) {
  const double seconds = std::chrono::duration<double>(Clock::now() - begin).count();
  state.SetIterationTime(seconds);
  state.counters["ms"] = seconds * 1000;
}
void ask(benchmark::State& state, std::string call) {
  for (std::size_t at; (at = call.find(' ')) != std::string::npos;) call.replace(at, 1, "%20");
  Caller client("http://" + daemon().address(), daemon().token());
  for (auto _ : state) {
    const auto begin = Clock::now();
    const HttpReply answer = client.get(call);
    took(state, begin);
    if (answer.status != 200) state.SkipWithError("no answer");
  }
  state.SetItemsProcessed(state.iterations() * kEvents);
}
void run(benchmark::State& state, const std::vector<std::string>& program) {
  std::vector<std::string> call = program;
  call.push_back(daemon().path("gate.log"));
  for (auto _ : state) {
    const auto begin = Clock::now();
    if (run_program(call).status != 0) state.SkipWithError("it failed");
    took(state, begin);
  }
  state.SetItemsProcessed(state.iterations() * kEvents);
}

void rare_word(benchmark::State& s) { ask(s, "/v1/events?where=mentions 'kittiwake'"); }
void grep_word(benchmark::State& s) { run(s, {"/usr/bin/grep", "-Fw", "kittiwake"}); }
void last_hour(benchmark::State& s) {
  ask(s, fmt::format("/v1/timeline?bucket=1m&by=http.response.status_code&from={}&to={}",
                     format_rfc3339((kEnd - 3600) * kSecond), format_rfc3339(kEnd * kSecond)));
}
void awk_hour(benchmark::State& s) {
  run(s, {"/usr/bin/awk", "$1 >= \"" + format_rfc3339((kEnd - 3600) * kSecond) +
                              "\" {++n[substr($1, 1, 16) \" \" $5]} END {for (k in n) print n[k], k}"});
}
void few_values(benchmark::State& s) { ask(s, "/v1/values?field=url.path"); }
void awk_few(benchmark::State& s) { run(s, {"/usr/bin/awk", "{++n[$4]} END {for (k in n) print n[k], k}"}); }
void many_values(benchmark::State& s) { ask(s, "/v1/values?field=user"); }
void awk_many(benchmark::State& s) { run(s, {"/usr/bin/awk", "{++n[$7]} END {for (k in n) print n[k], k}"}); }

void few_times(benchmark::internal::Benchmark* b) {
  b->UseManualTime()->Iterations(1)->Repetitions(3)->Unit(benchmark::kMillisecond);
}
BENCHMARK(rare_word)->Name("10 million events: a rare word/ours")->Apply(few_times);
BENCHMARK(grep_word)->Name("10 million events: a rare word/baseline grep")->Apply(few_times);
BENCHMARK(last_hour)->Name("10 million events: counts per minute of the last hour/ours")->Apply(few_times);
BENCHMARK(awk_hour)
    ->Name("10 million events: counts per minute of the last hour/baseline awk")
    ->Apply(few_times);
BENCHMARK(few_values)->Name("10 million events: top values of a field with 5/ours")->Apply(few_times);
BENCHMARK(awk_few)->Name("10 million events: top values of a field with 5/baseline awk")->Apply(few_times);
BENCHMARK(many_values)->Name("10 million events: top values of a field with 900 000/ours")->Apply(few_times);
BENCHMARK(awk_many)
    ->Name("10 million events: top values of a field with 900 000/baseline awk")
    ->Apply(few_times);

}  // namespace
}  // namespace dingle
