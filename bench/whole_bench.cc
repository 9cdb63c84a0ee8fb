// The whole program: lines in a file until they are where they go. Time runs from the start of the process
// until the last event is acknowledged, so it includes starting, the spool with its syncs, and the store's.
#include <fmt/format.h>
#include <sqlite3.h>
#include <unistd.h>

#include <chrono>
#include <filesystem>
#include <fstream>
#include <nlohmann/json.hpp>
#include <thread>

#include "bench/report.h"
#include "bench/running_program.h"
#include "core/template/template.h"
#include "core/time/instant.h"

namespace dingle {
namespace {

constexpr int kLogsToIndex = 5;  // of the access log, to the index: 600 000 lines
constexpr int kManyCopies = 20;  // and to nowhere: 2 400 000

// Seconds until all lines went through the pipeline, and, without further steps, all of them are sent.
double run_to(const AccessLog& source, const std::string& destination, int copies, std::uintmax_t* bytes,
              const std::string& more = "") {
  std::string pattern = "/tmp/dingle-bench-XXXXXX";
  const std::string dir = ::mkdtemp(pattern.data());
  {
    std::ofstream log(dir + "/access.log");
    for (int i = 0; i < copies; ++i) log << source.text;
  }
  std::ofstream(dir + "/c.yaml")
      << "version: 1\nserver: { data: " << dir
      << "/data, listen: '127.0.0.1:0', workers: 1 }\nsources: { access: { files: { paths: [" << dir
      << "/access.log] } } }\n"
      << "pipelines: { access: { from: [access], steps: [ parse: { templates: ['" << source.templ
      << "'] }, time: { field: at }" << more << " ], to: [to] } }\ndestinations: { to: { " << destination
      << " } }\n";
  const auto begin = std::chrono::steady_clock::now();
  RunningProgram program(dir);
  const auto all = static_cast<std::int64_t>(source.lines.size()) * copies;
  double seconds = 0;
  for (int i = 0; i < 3000; ++i) {
    std::this_thread::sleep_for(std::chrono::milliseconds(10));
    const auto status = program.status();
    if (status.is_discarded() || status["destinations"].empty() || status["pipelines"][0]["in"] != all ||
        (more.empty() && status["destinations"][0]["sent"] != all))
      continue;
    seconds = std::chrono::duration<double>(std::chrono::steady_clock::now() - begin).count();
    break;
  }
  program.stop();
  *bytes = 0;
  if (std::filesystem::exists(dir + "/data/indexes"))
    for (const auto& entry : std::filesystem::recursive_directory_iterator(dir + "/data/indexes"))
      if (entry.is_regular_file()) *bytes += entry.file_size();
  std::filesystem::remove_all(dir);
  return seconds;
}

void whole(benchmark::State& state, const AccessLog& source, const char* destination, int copies,
           const char* more = "") {
  std::uintmax_t bytes = 0;
  for (auto _ : state) {
    const double seconds = run_to(source, destination, copies, &bytes, more);
    if (seconds == 0) state.SkipWithError("it did not finish");
    state.SetIterationTime(seconds);
  }
  state.SetItemsProcessed(state.iterations() * static_cast<std::int64_t>(access_lines().size()) * copies);
  state.counters["MB_on_disk_per_M"] =
      static_cast<double>(bytes) / 1e6 / (static_cast<double>(access_lines().size()) * copies / 1e6);
}

// What one would write first: a row an event with its fields as JSON, a unique id, an index on time, full
// text on the body; WAL, synchronous=FULL, a thousand rows a transaction. Lines are parsed by the same
// template.
void row_per_event(benchmark::State& state) {
  const PatternLibrary library;
  std::vector<Problem> problems;
  auto t = Template::compile(kAccessTemplate, library, {}, problems);
  std::vector<Value> values(t->value_count());
  std::uintmax_t bytes = 0;
  const auto lines = std::span(access_lines()).first(60'000);
  for (auto _ : state) {
    std::string pattern = "/tmp/dingle-bench-XXXXXX";
    const std::string dir = ::mkdtemp(pattern.data());
    const auto begin = std::chrono::steady_clock::now();
    sqlite3* db = nullptr;
    sqlite3_open((dir + "/rows.sqlite").c_str(), &db);
    sqlite3_exec(db,
                 "PRAGMA journal_mode=WAL; PRAGMA synchronous=FULL; CREATE TABLE event(id TEXT UNIQUE, time "
                 "INTEGER, body TEXT, fields TEXT); CREATE INDEX event_time ON event(time); CREATE VIRTUAL "
                 "TABLE words USING fts5(body, content='event')",
                 nullptr, nullptr, nullptr);
    sqlite3_stmt *event = nullptr, *words = nullptr;
    sqlite3_prepare_v2(db, "INSERT INTO event VALUES(?, ?, ?, ?)", -1, &event, nullptr);
    sqlite3_prepare_v2(db, "INSERT INTO words(rowid, body) VALUES(?, ?)", -1, &words, nullptr);
    std::int64_t n = 0;
    for (std::string_view line : lines) {
      if (n % 1000 == 0) sqlite3_exec(db, n ? "COMMIT; BEGIN" : "BEGIN", nullptr, nullptr, nullptr);
      t->match(line, {}, values.data());
      std::string id = fmt::format("{:016x}", n * 0x9E3779B97F4A7C15ull), fields = "{";
      for (std::size_t i = 0; i < t->slots().size(); ++i) {
        fields += (i ? ",\"" : "\"") + t->slots()[i].name + "\":";
        values[i].append_json(fields);
      }
      fields += '}';
      sqlite3_bind_text(event, 1, id.data(), static_cast<int>(id.size()), SQLITE_STATIC);
      sqlite3_bind_int64(event, 2, values[3].as_integer());
      sqlite3_bind_text(event, 3, line.data(), static_cast<int>(line.size()), SQLITE_STATIC);
      sqlite3_bind_text(event, 4, fields.data(), static_cast<int>(fields.size()), SQLITE_STATIC);
      sqlite3_step(event);
      sqlite3_reset(event);
      sqlite3_bind_int64(words, 1, ++n);
      sqlite3_bind_text(words, 2, line.data(), static_cast<int>(line.size()), SQLITE_STATIC);
      sqlite3_step(words);
      sqlite3_reset(words);
    }
    sqlite3_exec(db, "COMMIT", nullptr, nullptr, nullptr);
    sqlite3_finalize(event);
    sqlite3_finalize(words);
    sqlite3_close(db);
    state.SetIterationTime(std::chrono::duration<double>(std::chrono::steady_clock::now() - begin).count());
    bytes = std::filesystem::file_size(dir + "/rows.sqlite");
    std::filesystem::remove_all(dir);
  }
  state.SetItemsProcessed(state.iterations() * static_cast<std::int64_t>(lines.size()));
  state.counters["MB_on_disk_per_M"] =
      static_cast<double>(bytes) / 1e6 / (static_cast<double>(lines.size()) / 1e6);
}

// The loop that the whole program is held against: the regex alone, in memory (template_bench.cc has it as
// well).
void regex_in_memory(benchmark::State& state, const AccessLog& source) {
  auto regex = Regex::compile(source.regex, Regex::Where::anchored);
  std::int64_t matched = 0;
  std::size_t from, to;
  for (auto _ : state) {
    const auto begin = std::chrono::steady_clock::now();
    for (int copy = 0; copy < kLogsToIndex; ++copy)
      for (std::string_view line : source.lines)
        matched += regex->match(line, &from, &to) == Regex::Outcome::match;
    state.SetIterationTime(std::chrono::duration<double>(std::chrono::steady_clock::now() - begin).count());
  }
  state.SetItemsProcessed(matched);
}

void to_nowhere(benchmark::State& state) { whole(state, plain_access_log(), "nowhere: {}", kManyCopies); }
void traced_to_nowhere(benchmark::State& state) {
  whole(state, traced_access_log(), "nowhere: {}", kManyCopies);
}
// Per client and minute: a thousand windows, of lines that go on nowhere.
void folded(benchmark::State& state) {
  whole(state, plain_access_log(), "nowhere: {}", kManyCopies,
        ", fold: { by: [client.address], window: 1m, values: { lines: count(*) } }");
}
// The same template, but no line ends so.
void unmatched(benchmark::State& state) {
  AccessLog log = plain_access_log();
  log.templ += " and no more";
  whole(state, log, "nowhere: {}", kLogsToIndex);
}
void matched(benchmark::State& state) { whole(state, plain_access_log(), "nowhere: {}", kLogsToIndex); }
void to_index(benchmark::State& state) {
  whole(state, plain_access_log(), "index: { name: 'access-{day}' }", kLogsToIndex);
}
void plain_regex(benchmark::State& state) { regex_in_memory(state, plain_access_log()); }
void traced_regex(benchmark::State& state) { regex_in_memory(state, traced_access_log()); }

BENCHMARK(folded)
    ->Name("folded per client and minute, one worker/ours")
    ->UseManualTime()
    ->Iterations(1)
    ->Unit(benchmark::kMillisecond);
BENCHMARK(to_nowhere)
    ->Name("folded per client and minute, one worker/baseline without the step")
    ->UseManualTime()
    ->Iterations(1)
    ->Unit(benchmark::kMillisecond);
BENCHMARK(unmatched)
    ->Name("every line unmatched, one worker/ours")
    ->UseManualTime()
    ->Iterations(1)
    ->Unit(benchmark::kMillisecond);
BENCHMARK(matched)
    ->Name("every line unmatched, one worker/baseline every line matched")
    ->UseManualTime()
    ->Iterations(1)
    ->Unit(benchmark::kMillisecond);
BENCHMARK(to_nowhere)
    ->Name("files to nowhere, one worker/ours")
    ->UseManualTime()
    ->Iterations(1)
    ->Unit(benchmark::kMillisecond);
BENCHMARK(plain_regex)
    ->Name("files to nowhere, one worker/baseline PCRE2-JIT in memory")
    ->UseManualTime()
    ->Iterations(1)
    ->Unit(benchmark::kMillisecond);
BENCHMARK(traced_to_nowhere)
    ->Name("files with trace ids to nowhere, one worker/ours")
    ->UseManualTime()
    ->Iterations(1)
    ->Unit(benchmark::kMillisecond);
BENCHMARK(traced_regex)
    ->Name("files with trace ids to nowhere, one worker/baseline PCRE2-JIT in memory")
    ->UseManualTime()
    ->Iterations(1)
    ->Unit(benchmark::kMillisecond);
BENCHMARK(to_index)
    ->Name("files to index/ours")
    ->UseManualTime()
    ->Iterations(1)
    ->Unit(benchmark::kMillisecond);
BENCHMARK(row_per_event)
    ->Name("files to index/baseline SQLite, a row an event, FTS5")
    ->UseManualTime()
    ->Iterations(1)
    ->Unit(benchmark::kMillisecond);

}  // namespace
}  // namespace dingle
