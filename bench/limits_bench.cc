// What has a limit of its own rather than a rival: memory and processor time of the whole program, as measured, beside what
// was asked of it.
#include <fcntl.h>
#include <fmt/format.h>
#include <unistd.h>

#include <chrono>
#include <filesystem>
#include <fstream>
#include <nlohmann/json.hpp>
#include <thread>

#include "bench/report.h"
#include "bench/running_program.h"
#include "core/event.h"
#include "core/json_fields.h"
#include "core/template/program.h"

namespace dingle {
namespace {

using Clock = std::chrono::steady_clock;

double processor_seconds(pid_t process) {
  std::ifstream in("/proc/" + std::to_string(process) + "/stat");
  std::string text((std::istreambuf_iterator<char>(in)), {});
  std::istringstream fields(text.substr(text.rfind(')') + 2));
  std::string word;
  double ticks = 0;
  for (int i = 3; i <= 15 && fields >> word; ++i)
    if (i >= 14) ticks += std::stod(word);
  return ticks / static_cast<double>(::sysconf(_SC_CLK_TCK));
}

// A hundred bytes or so a line; 10 000 files. Nothing is written for a while, then a line a second to each of them.
void many_files(benchmark::State& state) {
  constexpr int kFiles = 10'000, kSeconds = 10;
  std::string pattern = "/tmp/dingle-bench-XXXXXX";
  const std::string dir = ::mkdtemp(pattern.data());
  std::filesystem::create_directory(dir + "/logs");
  std::ofstream(dir + "/c.yaml")
      << "version: 1\nserver: { data: " << dir << "/data, listen: '127.0.0.1:0' }\n"
      << "sources: { cranes: { files: { paths: ['" << dir << "/logs/*.log'], most_files: 20000 } } }\n"
      << "pipelines: { p: { from: [cranes], steps: [ parse: { templates: ['{n:int} crane {crane:int} lifted "
         "{lifted:int} kg from {ship} to berth {berth:int} in {seconds:decimal} s'] } ], to: [to] } }\n"
      << "destinations: { to: { nowhere: {} } }\n";
  std::vector<int> files;
  for (int i = 0; i < kFiles; ++i)
    files.push_back(::open(fmt::format("{}/logs/crane-{:05}.log", dir, i).c_str(),
                           O_WRONLY | O_APPEND | O_CREAT | O_CLOEXEC, 0600));
  RunningProgram program(dir);
  const auto until = [&](auto holds) {
    for (int i = 0; i < 300 && !holds(program.status()); ++i)
      std::this_thread::sleep_for(std::chrono::milliseconds(100));
  };
  const auto share = [&](auto work) {  // of one core, in percent, while `work` runs
    const double before = processor_seconds(program.pid());
    const auto begin = Clock::now();
    work();
    return 100 * (processor_seconds(program.pid()) - before) /
           std::chrono::duration<double>(Clock::now() - begin).count();
  };
  for (auto _ : state) {
    until([](const nlohmann::json& s) {
      return !s.is_discarded() && s["sources"][0].value("open", 0) == kFiles;
    });
    std::this_thread::sleep_for(std::chrono::seconds(2));
    const double idle = share([&] { std::this_thread::sleep_for(std::chrono::seconds(kSeconds)); });
    const double busy = share([&] {
      const auto begin = Clock::now();
      for (int i = 0; i < kFiles * kSeconds; ++i) {
        const std::string line = fmt::format(
            "{} crane {} lifted 17250 kg from Storm Petrel to berth 3 in 41.5 s\n", i, i % kFiles);
        if (::write(files[static_cast<std::size_t>(i % kFiles)], line.data(), line.size()) < 0) break;
        if (i % 100 == 99) std::this_thread::sleep_until(begin + std::chrono::microseconds(100 * (i + 1)));
      }
    });
    std::int64_t arrived = 0;
    until([&](const nlohmann::json& s) {
      arrived = s.is_discarded() ? 0 : s["destinations"][0].value("sent", 0);
      return arrived == kFiles * kSeconds;
    });
    state.counters["lines missing, of 100 000"] = static_cast<double>(kFiles * kSeconds - arrived);
    state.counters["% of a core (asked: below 25)"] = busy;
    state.counters["% of a core while nothing is written (below 2)"] = idle;
    state.counters["MiB of memory (below 100)"] = memory_mib(program.pid());
  }
  program.stop();
  for (const int file : files) ::close(file);
  std::filesystem::remove_all(dir);
}
BENCHMARK(many_files)
    ->Name("10 000 files, a line a second each/limits")
    ->Iterations(1)
    ->Unit(benchmark::kMillisecond);

// A table that events fill, with a million rows, looked into by others, and after a restart.
void many_noted(benchmark::State& state) {
  constexpr int kRows = 1'000'000, kScans = 10'000;
  std::string pattern = "/tmp/dingle-bench-XXXXXX";
  const std::string dir = ::mkdtemp(pattern.data());
  std::ofstream(dir + "/c.yaml") << "version: 1\nserver: { data: " << dir
                                 << "/data, listen: '127.0.0.1:0' }\n"
                                 << "tables: { boarded: { noted: [ship, at] } }\n"
                                 << "sources: { boarding: { files: { paths: ['" << dir
                                 << "/boarding.log'] } }, gate: { files: { paths: ['" << dir
                                 << "/gate.log'] } } }\npipelines:\n  boarding:\n    from: [boarding]\n    "
                                    "steps: [ parse: { templates: ['{booking:word} boarded "
                                    "{ship} at {at:rfc3339}'] }, note: { table: boarded, by: booking, "
                                    "most_keys: 1000000, most_bytes: 100MiB } ]\n    to: [to]\n"
                                 << "  gate:\n    from: [gate]\n    steps: [ parse: { templates: "
                                    "['{booking:word} passes'] }, lookup: { table: boarded, by: booking } ]\n"
                                    "    to: [to]\ndestinations: { to: { nowhere: {} } }\n";
  std::ofstream boarding(dir + "/boarding.log"), gate(dir + "/gate.log");
  const auto booking = [](int i) {
    return fmt::format("bk-{:07}", static_cast<std::int64_t>(i) * 7919 % kRows);
  };
  const auto highest = [](const RunningProgram& program) {
    std::ifstream in("/proc/" + std::to_string(program.pid()) + "/status");
    for (std::string line; std::getline(in, line);)
      if (line.starts_with("VmHWM:")) return std::stod(line.substr(6)) / 1024;
    return 0.0;
  };
  for (auto _ : state) {
    int passed = 0;
    // How many of the scans found nothing.
    const auto scan = [&](const RunningProgram& program) {
      for (int i = 0; i < kScans; ++i) gate << booking(passed++ * 97 % kRows) << " passes\n";
      gate.flush();
      for (int i = 0; i < 600; ++i, std::this_thread::sleep_for(std::chrono::milliseconds(100))) {
        const nlohmann::json s = program.status();
        if (s.is_discarded()) continue;
        for (const auto& p : s["pipelines"])
          if (p["name"] == "gate" && p["in"] == passed) return p["steps"][1]["missed"].get<double>();
      }
      return static_cast<double>(kScans);
    };
    double missed = 0;
    {
      RunningProgram program(dir);
      for (int i = 0; i < kRows; ++i)
        boarding << booking(i)
                 << fmt::format(" boarded Storm Petrel {} at 2026-11-30T0{}:00:00Z\n", i % 40, i % 10);
      boarding.flush();
      for (int i = 0; i < 600; ++i, std::this_thread::sleep_for(std::chrono::milliseconds(100))) {
        const nlohmann::json s = program.status();
        if (!s.is_discarded() && s["sources"][0].value("events", 0) == kRows) break;
      }
      missed += scan(program);
      state.counters["MiB of memory at most (asked: below 200)"] = highest(program);
    }
    RunningProgram again(dir);
    const auto begin = Clock::now();
    while (again.status().is_discarded() && Clock::now() - begin < std::chrono::seconds(60)) {
    }
    state.counters["s until it answers after a restart"] =
        std::chrono::duration<double>(Clock::now() - begin).count();
    missed += scan(again);
    state.counters["MiB at most after a restart"] = highest(again);
    state.counters["rows not found, of 20 000"] = missed;
  }
  std::filesystem::remove_all(dir);
}
BENCHMARK(many_noted)
    ->Name("a table of a million noted rows/limits")
    ->Iterations(1)
    ->Unit(benchmark::kMillisecond);

// JSON keys that never come again, batch after batch, as a pipeline reads them.
void endless_keys(benchmark::State& state) {
  constexpr std::uint64_t kKeys = 100'000'000, kOfLine = 200, kLines = 100;
  double before = 0;
  std::uint64_t key = 0;
  for (auto _ : state)
    while (key < kKeys) {
      if (key == 10'000'000) before = memory_mib(::getpid());
      Batch batch;
      std::vector<Field> members;
      for (std::uint64_t i = 0; i < kLines; ++i) {
        std::string line = "{";
        for (std::uint64_t k = 0; k < kOfLine; ++k)
          line += fmt::format("{}\"crane.{:x}\":{}", k ? "," : "", key++, k);
        line += "}";
        const std::string_view text = batch.arena.copy(line);
        members.clear();
        JsonCounts counts;
        if (!json_members(text, {"", 8, text.data() + text.size()}, batch.arena, members, counts).empty())
          state.SkipWithError("a line is no object");
        Event event;
        batch.take(event, members);
        benchmark::DoNotOptimize(event);
      }
    }
  state.counters["MiB more after the last 90 million"] = memory_mib(::getpid()) - before;
  state.counters["a name of a configuration is still taken (1)"] = field_id("crane.hook.load") != kNoField;
}
BENCHMARK(endless_keys)
    ->Name("100 million different JSON keys/limits")
    ->Iterations(1)
    ->Unit(benchmark::kMillisecond);

}  // namespace
}  // namespace dingle
