// A step with memory, without an engine: turns, and a clock that stands in the turn.
#pragma once

#include <gtest/gtest.h>

#include <map>

#include "core/flow/pipeline.h"
#include "core/time/instant.h"
#include "tests/core/nodes.h"

namespace dingle {

struct Line {
  std::string key;
  Value n;
  std::int64_t time = 0;  // seconds
};

// One step with its memory.
struct Remembers {
  Pipeline pipeline;
  std::unique_ptr<StepMemory> memory;
  std::map<std::string, std::string> kept;  // what the changes come to
  StepTally tally;
  std::int64_t now = 1000 * kSecond;

  Remembers(const char* kind, const Node& options) {
    static const PatternLibrary library;
    Findings findings("");
    const StepKind* k = step_kind(kind);
    const Options o = Options::read(k->spec.options, options, kind, findings);
    auto step = k->make({o, library, findings});
    EXPECT_TRUE(step) << (findings.all().empty() ? "" : findings.all()[0].message);
    step->kind = kind;
    pipeline.add(std::move(step));
    memory = step_().begin();
  }
  const MemoryStep& step_() const { return *pipeline.steps[0]->with_memory(); }
  // What comes out, as "body" of each event.
  Texts turn(const std::vector<Line>& lines, Turn::Why why = Turn::Why::events) {
    Batch batch;
    for (const Line& line : lines) {
      Event e;
      e.body = batch.arena.copy(line.key + " " + line.n.to_string());
      e.timestamp = line.time * kSecond;
      e.position = position++;
      if (!line.key.empty()) e.set(batch.arena, field_id("k"), Value::text(batch.arena.copy(line.key)));
      if (!line.n.absent()) e.set(batch.arena, field_id("n"), line.n);
      batch.events.push_back(e);
    }
    auto prepared = pipeline.prepare(0, batch);
    Turn t;
    t.why = why;
    t.now = now;
    pipeline.turn(0, batch, prepared, *memory, t, tally);
    for (auto& c : t.changes) {
      EXPECT_FALSE(c.key.empty());  // that is the memory's own
      if (c.value)
        kept[c.key] = *c.value;
      else
        kept.erase(c.key);
    }
    Texts out;
    for (const Event& e : batch.events)
      if (e.dropped_by == 0) out.emplace_back(e.body);
    for (const Event& e : batch.events)
      if (const Field* part = e.find(names::part)) parts.push_back(part->value.as_integer());
    EXPECT_EQ(tally.unbalanced, 0u);
    EXPECT_EQ(tally.merged, tally.stood_for + memory->size().held);
    return out;
  }
  Texts tick() { return turn({}, Turn::Why::due); }
  void restart() {
    const StepMemory::Size before = memory->size();
    const std::uint64_t serial = memory->serial;
    memory = step_().begin();
    memory->serial = serial;
    for (const auto& [key, value] : kept) EXPECT_TRUE(step_().restore(*memory, key, value, now));
    EXPECT_EQ(memory->size().entries, before.entries);
    EXPECT_EQ(memory->size().held, before.held);
    EXPECT_EQ(memory->size().bytes, before.bytes);
  }
  std::uint64_t position = 0;
  std::vector<std::int64_t> parts;  // of all windows that were sent
};

}  // namespace dingle
