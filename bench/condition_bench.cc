// Conditions on parsed events, one thread: events a second, against the same test written by hand.
#include "bench/report.h"
#include "core/flow/pipeline.h"

namespace dingle {
namespace {

Batch& batch() {
  static Batch* made = [] {
    auto* b = new Batch;
    for (std::string_view line : access_lines().size() > 20'000 ? std::span(access_lines()).first(20'000)
                                                                : std::span(access_lines())) {
      Event e;
      e.body = line;
      e.set(b->arena, field_id("status"), Value::integer(line.size() % 7 ? 200 : 503));
      e.set(b->arena, field_id("url.path"), Value::text("/gate/7/scan"));
      b->events.push_back(e);
    }
    return b;
  }();
  return *made;
}

void condition_on_two(benchmark::State& state) {
  auto condition = Condition::parse("status >= 500 and url.path like '/gate/%'");
  std::int64_t held = 0;
  for (auto _ : state)
    for (const Event& e : batch().events) held += condition->holds(EventReader(batch(), e));
  benchmark::DoNotOptimize(held);
  state.SetItemsProcessed(state.iterations() * static_cast<std::int64_t>(batch().events.size()));
}

void by_hand(benchmark::State& state) {
  const FieldId status = field_id("status"), path = field_id("url.path");
  std::int64_t held = 0;
  for (auto _ : state)
    for (const Event& e : batch().events) {
      const Field* s = e.find(status);
      if (!s || s->value.as_integer() < 500) continue;
      const Field* p = e.find(path);
      held += p && p->value.as_text().starts_with("/gate/");
    }
  benchmark::DoNotOptimize(held);
  state.SetItemsProcessed(state.iterations() * static_cast<std::int64_t>(batch().events.size()));
}

BENCHMARK(condition_on_two)->Name("condition on two fields/ours");
BENCHMARK(by_hand)->Name("condition on two fields/baseline written by hand");

}  // namespace
}  // namespace dingle
