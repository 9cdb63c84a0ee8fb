#include "core/pipeline.h"

#include <chrono>

#include "core/template/lexemes.h"

namespace dingle {

void Pipeline::run(Batch& batch, std::vector<StepTally>& tallies) const {
  tallies.resize(steps.size());
  for (std::size_t i = 0; i < steps.size(); ++i) {
    std::uint64_t alive = 0;
    for (const Event& event : batch.events) alive += !event.dropped;
    StepTally tally;
    const auto begin = std::chrono::steady_clock::now();
    steps[i]->run(batch, tally);
    tally.nanoseconds = static_cast<std::uint64_t>((std::chrono::steady_clock::now() - begin).count());
    const std::uint64_t passed_by = alive - tally.in;  // for which the step's condition did not hold
    tally.in += passed_by;
    tally.out += passed_by;
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
