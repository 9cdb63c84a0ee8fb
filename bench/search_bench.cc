// Questions to ten million events in an index, against what grep and awk need on the text of the same lines; some to a hundred
// million as well, for which it takes a quarter of an hour and 15 GB of disk to get ready; those only if they are named
// (`scripts/bench '100 million events'`).
#include <fmt/format.h>
#include <sys/resource.h>
#include <sys/wait.h>
#include <unistd.h>

#include <algorithm>
#include <chrono>
#include <fstream>
#include <functional>
#include <map>
#include <random>
#include <thread>

#include "bench/report.h"
#include "bench/running_program.h"
#include "core/time/instant.h"
#include "tests/end_to_end/caller.h"
#include "tests/end_to_end/daemon.h"

namespace dingle {
namespace {

using namespace std::chrono_literals;
using Clock = std::chrono::steady_clock;

constexpr std::int64_t kTen = 10'000'000, kHundred = 100'000'000, kDays = 10;
constexpr int kRare = 5;
constexpr std::int64_t kBegin = 1'794'355'200;  // 2026-11-11T00:00:00Z
constexpr std::int64_t kEnd = kBegin + kDays * 86'400;

void write_lines(const std::string& path, std::int64_t events) {
  std::ofstream out(path);
  std::mt19937_64 random(7);
  static constexpr const char* kShips[] = {"Gannet", "Tern", "Eider", "Auk", "Skua", "Loon", "Petrel"};
  static constexpr const char* kPaths[] = {"/gate/open", "/gate/close", "/ticket/check", "/health",
                                           "/manifest"};
  fmt::memory_buffer text;
  for (std::int64_t i = 0; i < events; ++i) {
    const std::uint64_t r = random();
    const std::int64_t at = kBegin * 1000 + i * (kDays * 86'400'000) / events;
    fmt::format_to(std::back_inserter(text), "{} 192.0.2.{} GET {} {} ship={} user=u{:06}{}\n",
                   format_rfc3339(at * 1'000'000), r % 250, kPaths[r / 250 % 5],
                   r / 1250 % 50 == 0 ? 503 : 200, kShips[r / 62'500 % 7], r / 437'500 % 900'000,
                   i % (events / kRare) == events / 7 ? " kittiwake on the ramp" : "");
    if (text.size() > (1u << 20) || i + 1 == events) {
      out.write(text.data(), static_cast<std::streamsize>(text.size()));
      text.clear();
    }
  }
}

// A daemon whose index has so many; made once.
Daemon& daemon(std::int64_t events) {
  static std::map<std::int64_t, std::unique_ptr<Daemon>> made;
  std::unique_ptr<Daemon>& one = made[events];
  if (one) return *one;
  one = std::make_unique<Daemon>(
      "sources: { gate: { files: { paths: ['{dir}/logs/*.log'] } } }\npipelines: { gate: { from: [gate], "
      "steps: [ "
      "parse: { templates: ['{at:rfc3339} {client.address:ip} {http.request.method:word} "
      "{url.path:unspaced} "
      "{http.response.status_code:int} ship={ship:word} user={user:word}{[} {note}{]}'] }, time: { field: "
      "at }, "
      "omit: { fields: [at] } ], to: [to] } }\ndestinations: { to: { index: { name: 'gate-{day}' } } }\n");
  write_lines(one->path("gate.log"), events);
  one->start();
  for (int i = 0; i < 18'000 && one->status()["destinations"][0]["sent"] != events; ++i)
    std::this_thread::sleep_for(100ms);
  return *one;
}

void took(benchmark::State& state, Clock::time_point begin) {
  const double seconds = std::chrono::duration<double>(Clock::now() - begin).count();
  state.SetIterationTime(seconds);
  state.counters["ms"] = seconds * 1000;
}
struct Asked {
  std::string call;
  std::function<bool(const Json&)> whole = [](const Json&) {
    return true;
  };  // whether that is the whole answer
  std::int64_t events = kTen;
  const char* limit = nullptr;  // what is shown in place of a ratio
};
bool matched_all(const Json& answer) { return answer["scanned"]["matched"] == kTen; }

void ask(benchmark::State& state, Asked asked) {
  for (std::size_t at; (at = asked.call.find(' ')) != std::string::npos;) asked.call.replace(at, 1, "%20");
  Daemon& one = daemon(asked.events);
  Caller client("http://" + one.address(), one.token());
  client.get(asked.call);
  for (auto _ : state) {
    const auto begin = Clock::now();
    const HttpReply answer = client.get(asked.call);
    took(state, begin);
    if (answer.status != 200 || !asked.whole(Json::parse(answer.body, nullptr, false)))
      state.SkipWithError("not the whole answer");
  }
  if (asked.limit != nullptr) {
    state.counters[asked.limit] = state.counters["ms"];
    state.counters.erase("ms");
  }
  state.SetItemsProcessed(state.iterations() * asked.events);
}
void run(benchmark::State& state, const std::vector<std::string>& program, std::int64_t events = kTen) {
  std::vector<std::string> call = program;
  call.push_back(daemon(events).path("gate.log"));
  for (auto _ : state) {
    const auto begin = Clock::now();
    if (run_program(call).status != 0) state.SkipWithError("it failed");
    took(state, begin);
  }
  state.SetItemsProcessed(state.iterations() * events);
}

Asked rare_word(std::int64_t events) {
  return {.call = "/v1/events?where=mentions 'kittiwake'",
          .whole = [](const Json& answer) { return answer["events"].size() == kRare; },
          .events = events};
}
const std::vector<std::string> kGrep{"/usr/bin/grep", "-Fw", "kittiwake"};
void rare_in_ten(benchmark::State& s) { ask(s, rare_word(kTen)); }
void grep_ten(benchmark::State& s) { run(s, kGrep); }
void rare_in_hundred(benchmark::State& s) { ask(s, rare_word(kHundred)); }
void grep_hundred(benchmark::State& s) { run(s, kGrep, kHundred); }
void last_hour(benchmark::State& s) {
  ask(s, {.call = fmt::format("/v1/timeline?bucket=1m&by=http.response.status_code&from={}&to={}",
                              format_rfc3339((kEnd - 3600) * kSecond), format_rfc3339(kEnd * kSecond))});
}
void awk_hour(benchmark::State& s) {
  run(s, {"/usr/bin/awk", "$1 >= \"" + format_rfc3339((kEnd - 3600) * kSecond) +
                              "\" {++n[substr($1, 1, 16) \" \" $5]} END {for (k in n) print n[k], k}"});
}
void few_values(benchmark::State& s) { ask(s, {.call = "/v1/values?field=url.path", .whole = matched_all}); }
void awk_few(benchmark::State& s) { run(s, {"/usr/bin/awk", "{++n[$4]} END {for (k in n) print n[k], k}"}); }
void many_values(benchmark::State& s) { ask(s, {.call = "/v1/values?field=user", .whole = matched_all}); }
void awk_many(benchmark::State& s) { run(s, {"/usr/bin/awk", "{++n[$7]} END {for (k in n) print n[k], k}"}); }

void whole_time(benchmark::State& s) { ask(s, {.call = "/v1/timeline?bucket=1m", .whole = matched_all}); }
void awk_whole(benchmark::State& s) {
  run(s, {"/usr/bin/awk", "{++n[substr($1, 1, 16)]} END {for (k in n) print n[k], k}"});
}
void all_shapes(benchmark::State& s) { ask(s, {.call = "/v1/shapes", .whole = matched_all}); }
void sed_shapes(benchmark::State& s) {
  run(s, {"/bin/sh", "-c",
          "sed -E 's/[0-9]+/0/g' \"$0\" | LC_ALL=C awk '{++n[$0]} END {for (k in n) print n[k], k}'"});
}
void all_fields(benchmark::State& s) { ask(s, {.call = "/v1/fields", .limit = "ms (asked: below 300)"}); }
// A page far from both ends, and what stood around an event of it.
const std::string kMiddle = format_rfc3339((kBegin + kDays * 43'200) * kSecond);
void a_page(benchmark::State& s) {
  ask(s, {.call = "/v1/events?limit=100&to=" + kMiddle,
          .whole = [](const Json& answer) { return answer["events"].size() == 100; },
          .limit = "ms (asked: below 100)"});
}
void neighbours(benchmark::State& s) {
  Caller client("http://" + daemon(kTen).address(), daemon(kTen).token());
  const Json page = Json::parse(client.get("/v1/events?limit=1&ids=true&to=" + kMiddle).body);
  ask(s, {.call = "/v1/events/around?lines=10&id=" + page["events"][0]["dingle.id"].get<std::string>(),
          .whole = [](const Json& answer) { return answer["events"].size() == 21; },
          .limit = "ms, with ten lines before and behind"});
}

// All of them by `dingle search --all`, into a pipe.
void export_all(benchmark::State& state) {
  Daemon& one = daemon(kTen);
  for (auto _ : state) {
    const auto begin = Clock::now();
    int pipe[2];
    if (::pipe(pipe) != 0) return state.SkipWithError("no pipe");
    const pid_t client = ::fork();
    if (client == 0) {
      ::dup2(pipe[1], 1);
      ::close(pipe[0]);
      const std::string program = std::string(DINGLE_BINARIES) + "/dingle", data = one.dir + "/data";
      ::execl(program.c_str(), program.c_str(), "--data", data.c_str(), "search", "--all", "-o", "ndjson",
              nullptr);
      ::_exit(127);
    }
    ::close(pipe[1]);
    std::vector<char> bytes(1u << 20);
    std::int64_t lines = 0, reads = 0;
    double memory = 0;
    for (ssize_t n; (n = ::read(pipe[0], bytes.data(), bytes.size())) > 0; ++reads) {
      lines += std::count(bytes.begin(), bytes.begin() + n, '\n');
      if (reads % 64 == 0) memory = std::max(memory, memory_mib(one.pid()));
    }
    ::close(pipe[0]);
    int status = 0;
    rusage used{};
    ::wait4(client, &status, 0, &used);
    took(state, begin);
    if (status != 0) state.SkipWithError("not all of them");
    state.counters.erase("ms");
    state.counters["events a second"] =
        static_cast<double>(lines) / std::chrono::duration<double>(Clock::now() - begin).count();
    state.counters["events missing, of 10 000 000"] = static_cast<double>(kTen - lines);
    state.counters["MiB of dingled at most"] = memory;
    state.counters["MiB of dingle at most"] = static_cast<double>(used.ru_maxrss) / 1024;
  }
}

void few_times(benchmark::internal::Benchmark* b) {
  b->UseManualTime()->Iterations(1)->Repetitions(3)->Unit(benchmark::kMillisecond);
}
BENCHMARK(rare_in_ten)->Name("10 million events: a rare word/ours")->Apply(few_times);
BENCHMARK(grep_ten)->Name("10 million events: a rare word/baseline grep")->Apply(few_times);
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
BENCHMARK(whole_time)->Name("10 million events: counts per minute of all/ours")->Apply(few_times);
BENCHMARK(awk_whole)->Name("10 million events: counts per minute of all/baseline awk")->Apply(few_times);
BENCHMARK(all_shapes)->Name("10 million events: shapes of all/ours")->Apply(few_times);
BENCHMARK(sed_shapes)->Name("10 million events: shapes of all/baseline sed and awk")->Apply(few_times);
BENCHMARK(all_fields)->Name("10 million events: fields/limits")->Apply(few_times);
BENCHMARK(a_page)->Name("10 million events: a page in the middle/limits")->Apply(few_times);
BENCHMARK(neighbours)->Name("10 million events: around one event/limits")->Apply(few_times);
BENCHMARK(export_all)
    ->Name("10 million events: all of them as NDJSON/limits")
    ->UseManualTime()
    ->Iterations(1)
    ->Unit(benchmark::kMillisecond);
BENCHMARK(rare_in_hundred)->Name("100 million events: a rare word/ours")->Apply(few_times);
BENCHMARK(grep_hundred)->Name("100 million events: a rare word/baseline grep")->Apply(few_times);

}  // namespace
}  // namespace dingle
