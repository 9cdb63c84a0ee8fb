#include "core/flow/pipeline.h"

#include <algorithm>
#include <chrono>

#include "core/ascii.h"
#include "core/steps/hiding.h"

namespace dingle {

namespace {

template <class Work>
void timed(StepTally& t, Work work) {
  const auto begin = std::chrono::steady_clock::now();
  work();
  t.nanoseconds += static_cast<std::uint64_t>((std::chrono::steady_clock::now() - begin).count());
}

// Holds what a step counted against the events before and behind it.
void weigh(StepTally& t, std::uint64_t before, std::uint64_t behind) {
  const std::uint64_t passed_by = before - t.in;  // for which the step's condition did not hold
  t.in += passed_by;
  t.out += passed_by;
  t.unbalanced = difference(t.in + t.created, t.out + t.merged + t.dropped + t.failed) +
                 difference(before + t.created, behind + t.merged + t.dropped);
}

}  // namespace

Pipeline::Present::Present(const Batch& batch) {
  for (const Event& event : batch.events) {
    alive += event.dropped_by == 0;
    fingerprints += fingerprint(event);
  }
}

void Pipeline::step(std::size_t index, Batch& batch, StepTally& tally,
                    std::optional<Present>& present) const {
  const Present before = present ? *present : Present(batch);
  StepTally t;
  timed(t, [&] { steps[index]->run(batch, t); });
  const Present behind(batch);
  present = behind;
  weigh(t, before.alive, behind.alive);
  // One that is lost beside one that is doubled changes no count.
  if (t.unbalanced == 0 && t.created + t.merged == 0 && before.fingerprints != behind.fingerprints)
    t.unbalanced = 1;
  tally.add(t);
}

Pipeline::Prepared Pipeline::prepare(std::size_t index, Batch& batch) const {
  Prepared p;
  p.alive = Present(batch).alive;
  timed(p.tally, [&] { p.made = steps[index]->with_memory()->prepare(batch, p.tally); });
  return p;
}

void Pipeline::turn(std::size_t index, Batch& batch, Prepared& prepared, StepMemory& memory, Turn& turn,
                    StepTally& tally) const {
  StepTally& t = prepared.tally;
  timed(t, [&] { steps[index]->with_memory()->turn(batch, t, prepared.made.get(), memory, turn); });
  weigh(t, prepared.alive, Present(batch).alive);
  tally.add(t);
}

bool Pipeline::hides() const {
  return std::any_of(steps.begin(), steps.end(), [](const auto& step) { return step->hides() != nullptr; });
}

namespace {

// An id of so many hexadecimal digits as the logs data model has it: without dashes, in lower case. Others stay as they came.
void make_id(Batch& batch, Event& event, FieldId name, std::size_t digits) {
  const Field* field = event.find(name);
  if (field == nullptr || !field->value.is_textual()) return;
  const std::string_view text = field->value.as_text();
  char id[32];
  std::size_t n = 0;
  bool same = true;
  for (const char c : text) {
    same = same && c != '-' && !(c >= 'A' && c <= 'F');
    if (c == '-') continue;
    if (n == digits || !is_hex(c)) return;
    id[n++] = lower_ascii(c);
  }
  if (n == digits && !same) event.set(batch.arena, name, Value::text(batch.arena.copy({id, n})));
}

}  // namespace

Pipeline::Finished Pipeline::finish(Batch& batch) const {
  Finished finished;
  const HidingStep* hides = nullptr;  // the last
  for (const auto& step : steps)
    if (const HidingStep* one = step->hides()) hides = one;
  for (Event& event : batch.events) {
    if (event.dropped_by != 0) {
      if (hides != nullptr && event.dropped_by < hides->number) hides->conceal(batch, event);
      ++finished.dropped;
      continue;
    }
    finished.unmatched += event.failed_step != 0;
    if (const Field* severity = event.find(names::severity);
        severity != nullptr && event.find(names::severity_number) == nullptr)
      if (const Value number = severity_number(severity->value); !number.absent())
        event.set(batch.arena, names::severity_number, number);
    make_id(batch, event, names::trace_id, 32);
    make_id(batch, event, names::span_id, 16);
  }
  return finished;
}

}  // namespace dingle
