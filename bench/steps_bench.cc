// Steps on batches in memory: ten usual ones beside `parse` alone, and `pick` beside a regex with alternatives.
#define PCRE2_CODE_UNIT_WIDTH 8
#include <fmt/format.h>
#include <pcre2.h>

#include <memory>

#include "agent/sealing.h"
#include "agent/yaml.h"
#include "bench/report.h"
#include "core/flow/pipeline.h"
#include "core/tables/row_table.h"
#include "core/time/instant.h"

namespace dingle {
namespace {

constexpr std::size_t kStepLines = 4000, kStepBatch = 500;

Tables& tables() {
  static Tables all = [] {
    Tables t;
    auto ships =
        std::make_shared<RowTable>(RowTable::Match::exact, std::vector<std::string>{"ship", "line"}, 0);
    for (int i = 0; i < 1000; ++i) {
      const std::string name = "ship-" + std::to_string(i);
      ships->add(name, std::vector<Value>{Value::text(name), Value::text("north line")});
    }
    auto handle = std::make_shared<TableHandle>("ships");
    handle->put(ships);
    t.emplace("ships", handle);
    return t;
  }();
  return all;
}

std::unique_ptr<Pipeline> pipeline_of(const std::string& yaml) {
  static const PatternLibrary library;
  const TableScope scope(tables());
  Findings findings("");
  auto pipeline = std::make_unique<Pipeline>();
  const Node steps = read_yaml(yaml, findings);
  for (const Node& item : steps.items) {
    const Node::Entry entry = item.is_scalar() ? Node::Entry{item.scalar, {}, Node{}} : item.entries.at(0);
    const StepKind* kind = step_kind(entry.key);
    const Options o = Options::read(kind->spec.options, entry.value, entry.key, findings);
    auto step = kind->make({o, library, findings, sealing_with});
    if (!step) std::abort();
    step->kind = entry.key;
    if (!o.text("where").empty())
      step->where = std::make_unique<Condition>(*Condition::parse(o.text("where")));
    pipeline->add(std::move(step));
  }
  return pipeline;
}

std::shared_ptr<LineBuffer> buffer_of(const std::vector<std::string>& lines,
                                      std::vector<std::string_view>& views) {
  std::string all;
  for (const std::string& line : lines) all += line + "\n";
  auto buffer = std::make_shared<LineBuffer>(all.size());
  std::copy(all.begin(), all.end(), buffer->bytes.get());
  buffer->finish(all.size());
  std::size_t at = 0;
  for (const std::string& line : lines) {
    views.emplace_back(buffer->bytes.get() + at, line.size());
    at += line.size() + 1;
  }
  return buffer;
}

void run_steps(benchmark::State& state, const std::string& yaml, const std::vector<std::string>& lines) {
  const auto pipeline = pipeline_of(yaml);
  std::vector<std::string_view> views;
  const auto buffer = buffer_of(lines, views);
  std::int64_t done = 0;
  std::vector<StepTally> tallies(pipeline->steps.size());
  for (auto _ : state)
    for (std::size_t from = 0; from < views.size(); from += kStepBatch) {
      Batch batch;
      batch.buffer = buffer;
      for (std::size_t i = from; i < std::min(views.size(), from + kStepBatch); ++i) {
        Event& e = batch.events.emplace_back();
        e.body = views[i];
        e.position = i;
        e.timestamp = e.observed = 1'795'428'000 * kSecond;
      }
      std::optional<Pipeline::Present> present;
      for (std::size_t s = 0; s < tallies.size(); ++s) pipeline->step(s, batch, tallies[s], present);
      benchmark::DoNotOptimize(pipeline->finish(batch));
      done += static_cast<std::int64_t>(batch.events.size());
    }
  for (const StepTally& t : tallies)
    if (t.failed != 0) state.SkipWithError("events failed");
  state.SetItemsProcessed(done);
}

const std::vector<std::string>& json_lines() {
  static const std::vector<std::string> all = [] {
    std::vector<std::string> lines;
    for (std::size_t i = 0; i < kStepLines; ++i)
      lines.push_back(fmt::format(
          R"({{"at":"2026-11-23T10:{:02}:{:02}.{:03}Z","level":"info","ship":"ship-{}","path":"/ticket/day/{}","user":"kestrel{}","ms":{},"debug":"pool {}","message":"call state={} berth={} by user=kestrel{} done"}})",
          i / 60 % 60, i % 60, i % 1000, i % 1000, i, i % 97, i % 400, i, i % 3 == 0 ? "free" : "taken",
          i % 30, i % 97));
    return lines;
  }();
  return all;
}

void ten_steps(benchmark::State& state) {
  run_steps(state,
            "[json, time: { field: at }, set: { fields: { harbour: northquay }, computed: { slow: 'ms > 200' "
            "} }, rename: { fields: { level: severity } }, "
            "pick: { field: message, templates: ['state={state:word}', 'berth={berth:int}'] }, "
            "replace: { field: path, regex: '/ticket/(?<kind>[a-z]+)/[0-9]+', with: '/ticket/{kind}/*' }, "
            "omit: { fields: [debug] }, "
            "mask: { fields: [user] }, lookup: { table: ships, by: ship, take: { ship.line: line } }, drop: "
            "{ where: \"berth = 29\" }]",
            json_lines());
}
void parse_json_alone(benchmark::State& state) {
  run_steps(state, "[parse: { templates: ['{:json}'] }]", json_lines());
}
void parse_access_alone(benchmark::State& state) {
  std::vector<std::string> lines;
  for (std::size_t i = 0; i < kStepLines; ++i) lines.emplace_back(access_lines()[i]);
  run_steps(state, "[parse: { templates: ['" + std::string(kAccessTemplate) + "'] }]", lines);
}

std::vector<std::string> radio_lines() {
  std::vector<std::string> lines;
  for (std::size_t i = 0; i < kStepLines; ++i)
    lines.push_back(
        fmt::format("10:{:02}:{:02} bridge relay {} call heard on channel 11, wind from the north-west, "
                    "ship=ship-{} asks "
                    "for berth={} until the tide turns, state={} and nothing else",
                    i / 60 % 60, i % 60, i % 7, i % 1000, i % 30, i % 3 == 0 ? "free" : "taken"));
  return lines;
}
void pick_three(benchmark::State& state) {
  run_steps(state,
            "[pick: { templates: ['ship={ship:unspaced}', 'berth={berth:int}', 'state={state:word}'] }]",
            radio_lines());
}
void regex_three(benchmark::State& state) {
  const auto lines = radio_lines();
  const char* const pattern = R"(\bship=(\S+)|\bberth=(\d+)|\bstate=(\w+))";
  int error = 0;
  std::size_t offset = 0;
  pcre2_code* code = pcre2_compile(reinterpret_cast<PCRE2_SPTR>(pattern), PCRE2_ZERO_TERMINATED, 0, &error,
                                   &offset, nullptr);
  pcre2_jit_compile(code, PCRE2_JIT_COMPLETE);
  pcre2_match_data* data = pcre2_match_data_create_from_pattern(code, nullptr);
  std::int64_t done = 0;
  std::string_view values[3];
  for (auto _ : state)
    for (const std::string& line : lines) {
      for (std::size_t at = 0;;) {
        if (pcre2_jit_match(code, reinterpret_cast<PCRE2_SPTR>(line.data()), line.size(), at, 0, data,
                            nullptr) < 0)
          break;
        const std::size_t* o = pcre2_get_ovector_pointer(data);
        for (std::size_t g = 1; g <= 3 && g < pcre2_get_ovector_count(data); ++g)
          if (o[2 * g] != PCRE2_UNSET)
            values[g - 1] = std::string_view(line).substr(o[2 * g], o[2 * g + 1] - o[2 * g]);
        at = o[1];
      }
      benchmark::DoNotOptimize(values);
      ++done;
    }
  pcre2_match_data_free(data);
  pcre2_code_free(code);
  state.SetItemsProcessed(done);
}

BENCHMARK(ten_steps)->Name("ten steps on JSON lines/ours")->Unit(benchmark::kMillisecond);
BENCHMARK(parse_json_alone)
    ->Name("ten steps on JSON lines/baseline parse of the same alone")
    ->Unit(benchmark::kMillisecond);
BENCHMARK(parse_access_alone)
    ->Name("ten steps on JSON lines/baseline parse of an access log alone")
    ->Unit(benchmark::kMillisecond);
BENCHMARK(pick_three)->Name("pick of three values/ours")->Unit(benchmark::kMillisecond);
BENCHMARK(regex_three)
    ->Name("pick of three values/baseline PCRE2-JIT with three alternatives, nothing kept")
    ->Unit(benchmark::kMillisecond);

}  // namespace
}  // namespace dingle
