#include "core/pipeline.h"

#include <chrono>

#include "core/template/lexemes.h"

namespace dingle {

namespace {

std::uint64_t alive_in(const Batch& batch) {
  std::uint64_t alive = 0;
  for (const Event& event : batch.events) alive += !event.dropped;
  return alive;
}

std::uint64_t difference(std::uint64_t a, std::uint64_t b) { return a > b ? a - b : b - a; }

}  // namespace

void Pipeline::run(Batch& batch, std::vector<StepTally>& tallies) const {
  tallies.resize(steps.size());
  for (std::size_t i = 0; i < steps.size(); ++i) {
    const std::uint64_t alive = alive_in(batch);
    StepTally tally;
    const auto begin = std::chrono::steady_clock::now();
    steps[i]->run(batch, tally);
    tally.nanoseconds = static_cast<std::uint64_t>((std::chrono::steady_clock::now() - begin).count());
    const std::uint64_t passed_by = alive - tally.in;  // for which the step's condition did not hold
    tally.in += passed_by;
    tally.out += passed_by;
    tally.unbalanced =
        difference(tally.in + tally.created, tally.out + tally.merged + tally.dropped + tally.failed) +
        difference(alive + tally.created, alive_in(batch) + tally.merged + tally.dropped);
    tallies[i].add(tally);
  }
  for (Event& event : batch.events) {
    if (event.dropped) continue;
    const Field* severity = event.find(names::severity);
    int number = 0;
    if (severity && severity->value.kind() == Kind::text &&
        severity_number_of(severity->value.as_text(), number) &&
        event.find(names::severity_number) == nullptr)
      event.set(batch.arena, names::severity_number, Value::integer(number));
  }
}

}  // namespace dingle
