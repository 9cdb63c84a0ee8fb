#include "core/flow/pipeline.h"

#include <chrono>

#include "core/template/lexemes.h"

namespace dingle {

namespace {

struct There {
  std::uint64_t alive = 0, fingerprints = 0;  // of all, dropped ones too
  explicit There(const Batch& batch) {
    for (const Event& event : batch.events) {
      alive += event.dropped_by == 0;
      fingerprints += fingerprint(event);
    }
  }
};

std::uint64_t difference(std::uint64_t a, std::uint64_t b) { return a > b ? a - b : b - a; }

}  // namespace

void Pipeline::step(std::size_t index, Batch& batch, StepTally& tally) const {
  const There before(batch);
  StepTally t;
  const auto begin = std::chrono::steady_clock::now();
  steps[index]->run(batch, t);
  t.nanoseconds = static_cast<std::uint64_t>((std::chrono::steady_clock::now() - begin).count());
  const There behind(batch);
  const std::uint64_t passed_by = before.alive - t.in;  // for which the step's condition did not hold
  t.in += passed_by;
  t.out += passed_by;
  t.unbalanced = difference(t.in + t.created, t.out + t.merged + t.dropped + t.failed) +
                 difference(before.alive + t.created, behind.alive + t.merged + t.dropped);
  // One that is lost beside one that is doubled changes no count.
  if (t.unbalanced == 0 && t.created + t.merged == 0 && before.fingerprints != behind.fingerprints)
    t.unbalanced = 1;
  tally.add(t);
}

void Pipeline::finish(Batch& batch) const {
  for (Event& event : batch.events) {
    if (event.dropped_by != 0) continue;
    const Field* severity = event.find(names::severity);
    int number = 0;
    if (severity && severity->value.kind() == Kind::text &&
        severity_number_of(severity->value.as_text(), number) &&
        event.find(names::severity_number) == nullptr)
      event.set(batch.arena, names::severity_number, Value::integer(number));
  }
}

}  // namespace dingle
