// Template matching in memory, one thread: lines a second.
#define PCRE2_CODE_UNIT_WIDTH 8
#include <pcre2.h>

#include <charconv>

#include "bench/report.h"
#include "core/template/template.h"
#include "core/time/formats.h"

namespace dingle {
namespace {

// The access-log template: 12 captures, values typed, event time read.
void ours(benchmark::State& state) {
  const PatternLibrary library;
  std::vector<Problem> problems;
  auto t = Template::compile(kAccessTemplate, library, {}, problems);
  std::vector<Value> values(t->value_count());
  MatchContext context;  // as a step sets it: the lines stand in one buffer with some room behind it
  context.readable = access_log().data() + access_log().size() + kReadAhead;
  std::int64_t matched = 0;
  for (auto _ : state)
    for (std::string_view line : access_lines()) {
      matched += t->match(line, context, values.data());
      benchmark::DoNotOptimize(values.data());
    }
  if (matched != state.iterations() * static_cast<std::int64_t>(access_lines().size()))
    state.SkipWithError("a line did not match");
  state.SetItemsProcessed(matched);
}

// The same lines through one PCRE2-JIT regex with 12 groups; `convert` also makes the same typed values.
template <bool Convert>
void regex(benchmark::State& state) {
  int error = 0;
  std::size_t offset = 0;
  pcre2_code* code = pcre2_compile(reinterpret_cast<PCRE2_SPTR>(kAccessRegex), PCRE2_ZERO_TERMINATED, 0,
                                   &error, &offset, nullptr);
  pcre2_jit_compile(code, PCRE2_JIT_COMPLETE);
  pcre2_match_data* data = pcre2_match_data_create_from_pattern(code, nullptr);
  std::int64_t matched = 0;
  Value values[12];
  for (auto _ : state)
    for (std::string_view line : access_lines()) {
      if (pcre2_jit_match(code, reinterpret_cast<PCRE2_SPTR>(line.data()), line.size(), 0, 0, data, nullptr) <
          0)
        continue;
      ++matched;
      const std::size_t* v = pcre2_get_ovector_pointer(data);
      if constexpr (Convert) {
        auto group = [&](int i) { return line.substr(v[2 * i], v[2 * i + 1] - v[2 * i]); };
        auto number = [&](int i) {
          std::int64_t n = 0;
          std::from_chars(group(i).data(), group(i).data() + group(i).size(), n);
          return Value::integer(n);
        };
        auto decimal = [&](int i) {
          double d = 0;
          std::from_chars(group(i).data(), group(i).data() + group(i).size(), d);
          return Value::decimal(d);
        };
        for (int i : {2, 3, 5, 6, 10, 11}) values[i - 1] = Value::text(group(i));
        unsigned char address[16];
        if (parse_ip(group(1), address)) values[0] = Value::ip(group(1));
        ParsedTime t;
        scan_clf_time(group(4).data(), group(4).data() + group(4).size(), t);
        values[3] = Value::timestamp(t.nanoseconds);
        values[6] = decimal(7);
        values[7] = number(8);
        values[8] = number(9);
        values[11] = decimal(12);
        benchmark::DoNotOptimize(values);
      }
      benchmark::DoNotOptimize(v);
    }
  if (matched != state.iterations() * static_cast<std::int64_t>(access_lines().size()))
    state.SkipWithError("a line did not match");
  state.SetItemsProcessed(matched);
  pcre2_match_data_free(data);
  pcre2_code_free(code);
}

BENCHMARK(ours)->Name("access-log template, typed/ours")->Unit(benchmark::kMillisecond);
BENCHMARK(regex<false>)
    ->Name("access-log template, typed/baseline PCRE2-JIT, 12 groups, nothing converted")
    ->Unit(benchmark::kMillisecond);
BENCHMARK(regex<true>)
    ->Name("access-log template, typed/baseline PCRE2-JIT with the same conversions")
    ->Unit(benchmark::kMillisecond);

}  // namespace
}  // namespace dingle
