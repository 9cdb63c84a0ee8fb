// Parts of the way of a line, in memory, one thread: many templates in one step, structured values, times,
// and the most expensive lines.
#include <fmt/format.h>
#include <simdjson.h>

#include <cstring>
#include <ctime>
#include <functional>
#include <random>

#include "bench/report.h"
#include "core/event.h"
#include "core/json_fields.h"
#include "core/template/set.h"
#include "core/time/formats.h"
#include "spool/queues.h"

namespace dingle {
namespace {

// ---- 200 templates in one step on a mix of 200 layouts
// --------------------------------------------------------

struct Layouts {
  std::vector<std::shared_ptr<const Template>> templates;
  std::string text;
  std::vector<std::string_view> mixed, alone;  // lines of all layouts in turn; as many of the first one
};

// Layouts as one program, or many of them, write: three out of four begin with a time, a host and a program;
// the others with a word of their own, with a number, or with free text. All lines are about 120 bytes long.
const Layouts& layouts() {
  static const Layouts all = [] {
    Layouts l;
    const PatternLibrary library;
    static const char* const kVerbs[] = {"assigned", "released", "refused", "delayed",
                                         "moved",    "weighed",  "sealed",  "opened"};
    static const char* const kThings[] = {"berth", "crane", "gate", "ticket", "container"};
    std::mt19937_64 random(3);
    std::vector<std::function<std::string(unsigned)>> makers;
    for (int i = 0; i < 200; ++i) {
      const std::string what =
          fmt::format("{} {} {}", kThings[i % 5], kVerbs[i / 5 % 8], static_cast<char>('a' + i / 40));
      const std::string begin =
          i % 8 == 7   ? fmt::format("{}: {{a:int}} {{b:word}} ", what)
          : i % 8 == 5 ? fmt::format("{{a:int}} {{b:word}} {}: ", what)
          : i % 8 == 3
              ? fmt::format("{{a:unspaced}} of {{b:word}} {}: ", what)
              : fmt::format("{{at:rfc3339}} {{host.name:hostname}} {{a:word}}[{{b:int}}]: {}: ", what);
      const std::string t =
          begin +
          "ship={ship:word} count={count:int} weight={weight:decimal} by {user:word} from {client:ip}";
      std::vector<Problem> problems;
      l.templates.push_back(Template::compile(t, library, {}, problems));
      makers.push_back([=](unsigned n) {
        const std::string head =
            i % 8 == 7   ? fmt::format("{}: {} northquay-harbour-master ", what, 10'000'000 + n)
            : i % 8 == 5 ? fmt::format("{} northquay-harbour-master {}: ", 10'000'000 + n, what)
            : i % 8 == 3 ? fmt::format("/quay/{}/master of northquay {}: ", n, what)
                         : fmt::format("2026-11-23T10:{:02}:{:02}Z quay-{} berthing[{}]: {}: ", n / 60 % 60,
                                       n % 60, n % 9, n % 900, what);
        return head + fmt::format("ship=Kittiwake count={} weight={}.{} by staff{} from 192.0.2.{}", n % 500,
                                  n % 90, n % 10, n % 40, n % 250);
      });
    }
    std::vector<std::size_t> ends_mixed, ends_alone;
    constexpr unsigned kLines = 20'000;
    for (unsigned n = 0; n < kLines; ++n) {
      l.text += makers[random() % 200](n);
      ends_mixed.push_back(l.text.size());
      l.text += '\n';
    }
    for (unsigned n = 0; n < kLines; ++n) {
      l.text += makers[0](n);
      ends_alone.push_back(l.text.size());
      l.text += '\n';
    }
    l.text.append(kReadAhead, '\0');
    std::size_t from = 0;
    for (std::size_t end : ends_mixed) l.mixed.emplace_back(l.text.data() + from, end - from), from = end + 1;
    for (std::size_t end : ends_alone) l.alone.emplace_back(l.text.data() + from, end - from), from = end + 1;
    return l;
  }();
  return all;
}

void match_all(benchmark::State& state, const TemplateSet& set, const std::vector<std::string_view>& lines) {
  MatchContext context;
  context.readable = layouts().text.data() + layouts().text.size();
  std::vector<Value> values;
  std::int64_t matched = 0;
  for (auto _ : state)
    for (std::string_view line : lines) {
      matched += set.match(line, context, values) >= 0;
      benchmark::DoNotOptimize(values.data());
    }
  if (matched != state.iterations() * static_cast<std::int64_t>(lines.size()))
    state.SkipWithError("a line did not match");
  state.SetItemsProcessed(matched);
}
void many_templates(benchmark::State& state) {
  static const TemplateSet set(layouts().templates);
  match_all(state, set, layouts().mixed);
}
void one_template(benchmark::State& state) {
  static const TemplateSet set({layouts().templates[0]});
  match_all(state, set, layouts().alone);
}
// What one would write first.
void one_after_another(benchmark::State& state) {
  MatchContext context;
  context.readable = layouts().text.data() + layouts().text.size();
  std::vector<Value> values(20);
  std::int64_t matched = 0;
  for (auto _ : state)
    for (std::string_view line : layouts().mixed)
      for (const auto& t : layouts().templates)
        if (t->match(line, context, values.data())) {
          ++matched;
          break;
        }
  state.SetItemsProcessed(matched);
}
BENCHMARK(many_templates)->Name("200 templates on 200 layouts/ours")->Unit(benchmark::kMillisecond);
BENCHMARK(one_template)
    ->Name("200 templates on 200 layouts/baseline one template on one layout")
    ->Unit(benchmark::kMillisecond);
BENCHMARK(one_after_another)
    ->Name("200 templates on 200 layouts/baseline tried one after another")
    ->Unit(benchmark::kMillisecond);

// ---- structured values
// ----------------------------------------------------------------------------------------

struct Lines {
  std::string text;
  std::vector<std::string_view> all;
  explicit Lines(const std::function<std::string(unsigned)>& make, unsigned count = 50'000) {
    std::vector<std::size_t> ends;
    for (unsigned n = 0; n < count; ++n) {
      text += make(n);
      ends.push_back(text.size());
      text += '\n';
    }
    text.append(kReadAhead, '\0');
    std::size_t from = 0;
    for (std::size_t end : ends) all.emplace_back(text.data() + from, end - from), from = end + 1;
  }
};

const Lines& json_lines() {
  static const Lines lines([](unsigned n) {
    return fmt::format(
        R"({{"time":"2026-11-23T10:{:02}:{:02}.{:03}Z","level":"info","message":"passenger boarded","trace_id":"{:032x}","span_id":"{:016x}","ship":"Storm Petrel","passengers":{},"http":{{"method":"PUT","status":{}}},"took_ms":{}.{}}})",
        n / 60 % 60, n % 60, n % 1000, n * 77777u, n * 333u, n % 400, n % 20 ? 200 : 503, n % 90, n % 10);
  });
  return lines;
}

// Every member becomes a typed field of an event.
void json_fields_of(benchmark::State& state, const Lines& lines) {
  std::vector<Field> members;
  std::int64_t done = 0;
  for (auto _ : state)
    for (std::size_t i = 0; i < lines.all.size();) {
      Batch batch;
      for (std::size_t end = std::min(i + 1000, lines.all.size()); i < end; ++i) {
        members.clear();
        JsonCounts counts;
        if (!json_members(lines.all[i], {"", 8, lines.text.data() + lines.text.size()}, batch.arena, members,
                          counts)
                 .empty())
          state.SkipWithError("a line is no object");
        Event event;
        batch.take(event, members);
        done += event.field_count != 0;
        benchmark::DoNotOptimize(event);
      }
    }
  state.SetItemsProcessed(done);
}
void json_bare_of(benchmark::State& state, const Lines& lines) {
  simdjson::dom::parser parser;
  std::int64_t done = 0;
  for (auto _ : state)
    for (std::string_view line : lines.all) {
      simdjson::dom::element root;
      done += !parser.parse(line.data(), line.size(), false).get(root);
      benchmark::DoNotOptimize(root);
    }
  state.SetItemsProcessed(done);
}
void json_fields(benchmark::State& state) { json_fields_of(state, json_lines()); }
void json_bare(benchmark::State& state) { json_bare_of(state, json_lines()); }
BENCHMARK(json_fields)->Name("JSON lines to typed fields/ours")->Unit(benchmark::kMillisecond);
BENCHMARK(json_bare)
    ->Name("JSON lines to typed fields/baseline simdjson's DOM, nothing read")
    ->Unit(benchmark::kMillisecond);

// As an instrument writes them that tells everything: 200 members.
const Lines& wide_lines() {
  static const Lines lines(
      [](unsigned n) {
        std::string line = "{";
        for (unsigned k = 0; k < 200; ++k)
          line += fmt::format("{}\"crane.{}.{}\":{}", k ? "," : "", k % 20, k,
                              k % 4 == 0   ? fmt::format("\"berth {}\"", n % 9)
                              : k % 4 == 1 ? fmt::format("{}.5", n + k)
                                           : std::to_string(n * k));
        return line + "}";
      },
      5'000);
  return lines;
}
void wide_fields(benchmark::State& state) { json_fields_of(state, wide_lines()); }
void wide_bare(benchmark::State& state) { json_bare_of(state, wide_lines()); }
BENCHMARK(wide_fields)->Name("JSON lines of 200 members to typed fields/ours")->Unit(benchmark::kMillisecond);
BENCHMARK(wide_bare)
    ->Name("JSON lines of 200 members to typed fields/baseline simdjson's DOM, nothing read")
    ->Unit(benchmark::kMillisecond);

const Lines& pair_lines() {
  static const Lines lines([](unsigned n) {
    return fmt::format(
        "ts=17954280{:02}.{:03} crane={} op={} load_kg={} state=ok operator=staff{:02} quay=northquay",
        n % 60, n % 1000, n % 9, n % 2 ? "lift" : "lower", 1000 + n % 30'000, n % 40);
  });
  return lines;
}
const Lines& csv_lines() {
  static const Lines lines([](unsigned n) {
    return fmt::format(
        "2026-11-23T10:{:02}:{:02}Z,Northquay,{}.{:02},-0.{:02},ok,gauge-{},calibrated,harbour wall west",
        n / 60 % 60, n % 60, n % 3, n % 100, n % 50, n % 7);
  });
  return lines;
}

void by_template(benchmark::State& state, const char* text, const Lines& lines) {
  const PatternLibrary library;
  std::vector<Problem> problems;
  auto t = Template::compile(text, library, {}, problems);
  std::vector<Value> values(t->value_count());
  std::vector<Field> found;
  std::int64_t done = 0;
  for (auto _ : state)
    for (std::size_t i = 0; i < lines.all.size();) {
      Arena arena;
      const MatchContext context{&arena, 0, &found, lines.text.data() + lines.text.size()};
      for (std::size_t end = std::min(i + 1000, lines.all.size()); i < end; ++i) {
        found.clear();
        done += t->match(lines.all[i], context, values.data());
        benchmark::DoNotOptimize(values.data());
        benchmark::DoNotOptimize(found.data());
      }
    }
  if (done != state.iterations() * static_cast<std::int64_t>(lines.all.size()))
    state.SkipWithError("a line did not match");
  state.SetItemsProcessed(done);
}
// Finds where each cell, key and value begins, and does nothing with it.
void by_memchr(benchmark::State& state, const Lines& lines, std::string_view separators) {
  std::int64_t done = 0;
  std::string_view cells[64];
  for (auto _ : state)
    for (std::string_view line : lines.all) {
      std::size_t n = 0;
      const char* p = line.data();
      const char* const end = p + line.size();
      for (std::size_t k = 0; p < end; k = (k + 1) % separators.size()) {
        const void* q = std::memchr(p, separators[k], static_cast<std::size_t>(end - p));
        const char* to = q ? static_cast<const char*>(q) : end;
        cells[n++ & 63] = {p, static_cast<std::size_t>(to - p)};
        p = to + 1;
      }
      benchmark::DoNotOptimize(cells);
      ++done;
    }
  state.SetItemsProcessed(done);
}
void pairs_fields(benchmark::State& state) { by_template(state, "{:pairs}", pair_lines()); }
void pairs_bare(benchmark::State& state) { by_memchr(state, pair_lines(), "= "); }
void csv_fields(benchmark::State& state) {
  by_template(state, "{:csv(at, harbour, level, surge, quality, gauge, state, place)}", csv_lines());
}
void csv_bare(benchmark::State& state) { by_memchr(state, csv_lines(), ","); }
BENCHMARK(pairs_fields)->Name("pairs to typed fields/ours")->Unit(benchmark::kMillisecond);
BENCHMARK(pairs_bare)
    ->Name("pairs to typed fields/baseline a loop over memchr, nothing kept")
    ->Unit(benchmark::kMillisecond);
BENCHMARK(csv_fields)->Name("CSV to fields/ours")->Unit(benchmark::kMillisecond);
BENCHMARK(csv_bare)
    ->Name("CSV to fields/baseline a loop over memchr, nothing kept")
    ->Unit(benchmark::kMillisecond);

// ---- times
// ----------------------------------------------------------------------------------------------------

std::vector<std::string> times(const char* format) {
  std::vector<std::string> all;
  for (unsigned i = 0; i < 4096; ++i) {  // all different: nothing that is remembered helps
    const std::time_t t = 1'795'428'000 + static_cast<std::time_t>(i) * 7919;
    char text[64];
    std::tm parts{};
    gmtime_r(&t, &parts);
    std::strftime(text, sizeof text, format, &parts);
    all.emplace_back(text);
  }
  return all;
}
template <class Read>
void read_times(benchmark::State& state, const char* format, Read read) {
  const auto all = times(format);
  std::int64_t sum = 0;
  for (auto _ : state)
    for (const std::string& text : all) sum += read(text);
  benchmark::DoNotOptimize(sum);
  state.SetItemsProcessed(state.iterations() * static_cast<std::int64_t>(all.size()));
}
void rfc3339_ours(benchmark::State& state) {
  read_times(state, "%Y-%m-%dT%H:%M:%SZ", [](const std::string& text) {
    ParsedTime t;
    scan_rfc3339(text.data(), text.data() + text.size(), t);
    return t.nanoseconds;
  });
}
void clf_ours(benchmark::State& state) {
  read_times(state, "%d/%b/%Y:%H:%M:%S +0000", [](const std::string& text) {
    ParsedTime t;
    scan_clf_time(text.data(), text.data() + text.size(), t);
    return t.nanoseconds;
  });
}
void rfc3339_libc(benchmark::State& state) {
  read_times(state, "%Y-%m-%dT%H:%M:%SZ", [](const std::string& text) {
    std::tm parts{};
    ::strptime(text.c_str(), "%Y-%m-%dT%H:%M:%SZ", &parts);
    return static_cast<std::int64_t>(::timegm(&parts));
  });
}
void clf_libc(benchmark::State& state) {
  read_times(state, "%d/%b/%Y:%H:%M:%S +0000", [](const std::string& text) {
    std::tm parts{};
    ::strptime(text.c_str(), "%d/%b/%Y:%H:%M:%S %z", &parts);
    return static_cast<std::int64_t>(::timegm(&parts));
  });
}
BENCHMARK(rfc3339_ours)->Name("RFC 3339 times/ours");
BENCHMARK(rfc3339_libc)->Name("RFC 3339 times/baseline strptime and timegm");
BENCHMARK(clf_ours)->Name("access-log times/ours");
BENCHMARK(clf_libc)->Name("access-log times/baseline strptime and timegm");

// ---- the most expensive lines
// -----------------------------------------------------------------------------------

// One template, on a line that is made to be expensive for it; the ratio is that to a normal line of its
// length.
void expensive(benchmark::State& state, const std::string& text, const std::string& line) {
  const PatternLibrary library;
  std::vector<Problem> problems;
  auto t = Template::compile(text, library, {}, problems);
  std::vector<Value> values(t->value_count());
  std::string padded = line;
  padded.append(kReadAhead, '\0');
  const MatchContext context{nullptr, 0, nullptr, padded.data() + padded.size()};
  for (auto _ : state)
    benchmark::DoNotOptimize(
        t->match(std::string_view(padded).substr(0, line.size()), context, values.data()));
  state.SetItemsProcessed(state.iterations());
}
constexpr std::size_t kLong = 400;
std::string many_optional_parts() {
  std::string text;
  for (int i = 0; i < 30; ++i)
    text += "{[}{:text}" + std::string(1, static_cast<char>('A' + i % 26)) + std::to_string(i) + "{]}";
  return text + "{x:word}";
}
std::string normal_line() {
  std::string line = "192.0.2.7 staff 200 ";
  while (line.size() < kLong) line += "word and word ";
  return line.substr(0, kLong);
}
void normal(benchmark::State& state) {
  expensive(state, "{a:ip} {b:word} {c:int} {d:unspaced} {e:unspaced} {f:unspaced} {g:unspaced} {h}",
            normal_line());
}
void normal_with_regex(benchmark::State& state) {
  expensive(state, "{a:ip} {b:word} {c:/\\d+/} {d:/\\w+/} {e:/[ a-z]+/}", normal_line());
}
void worst_optional(benchmark::State& state) {
  expensive(state, many_optional_parts(), std::string(kLong, 'a') + " ");
}
void worst_text(benchmark::State& state) {
  expensive(state, "{a}ab" + std::string(8, 'a') + "c", std::string(kLong, 'a'));
}
void worst_regex(benchmark::State& state) { expensive(state, "{a:/(a+)+b/}", std::string(kLong, 'a')); }
void worst_regex_words(benchmark::State& state) { expensive(state, "{a:/(\\w+\\s?)*!/}", normal_line()); }
BENCHMARK(worst_optional)->Name("a line for 30 optional texts/ours");
BENCHMARK(normal)->Name("a line for 30 optional texts/baseline a normal line of its length");
BENCHMARK(worst_text)->Name("a line of one letter/ours");
BENCHMARK(normal)->Name("a line of one letter/baseline a normal line of its length");
BENCHMARK(worst_regex)->Name("a line for (a+)+b/ours");
BENCHMARK(normal_with_regex)->Name("a line for (a+)+b/baseline a normal line of its length, three regexes");
BENCHMARK(worst_regex_words)->Name("a line for (word blank)*/ours");
BENCHMARK(normal_with_regex)
    ->Name("a line for (word blank)*/baseline a normal line of its length, three regexes");

// What an idle destination costs each append: it is asked whether there is something for it. Of 32, one is down with so many
// records, the others have all.
void append_beside(benchmark::State& state, std::uint64_t backlog) {
  constexpr std::uint32_t kDestinations = 32;
  Queues queues;
  for (std::uint32_t d = 1; d <= kDestinations; ++d) queues.begin(d, 0);
  for (std::uint64_t n = 1; n <= backlog; ++n) queues.append({n, 1, {}, 1}, {{1, 100}});
  std::uint64_t last = backlog;
  for (auto _ : state) {
    queues.append({++last, 1, {}, 1}, {{2, 100}});
    std::uint32_t events = 0;
    for (std::uint32_t d = 2; d <= kDestinations; ++d)
      benchmark::DoNotOptimize(queues.next(d, queues.cursor(d), last, &events));
    benchmark::DoNotOptimize(queues.waiting(1));
    queues.passed(2, last);
  }
}
void beside_a_million(benchmark::State& state) { append_beside(state, 1'000'000); }
void beside_none(benchmark::State& state) { append_beside(state, 0); }
BENCHMARK(beside_a_million)
    ->Name("an append beside 32 destinations, one with a million records waiting/ours");
BENCHMARK(beside_none)
    ->Name("an append beside 32 destinations, one with a million records waiting/baseline none waits");

}  // namespace
}  // namespace dingle
