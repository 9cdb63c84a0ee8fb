// Steps: the operations of a pipeline. A step works on a whole batch at once, without state of its own, so
// that several workers may run one step on different batches.
//
// A kind of step is one file: a ComponentSpec with its options, a class, and a StepRegistration. Nothing else
// names it.
#pragma once

#include <cstdint>
#include <functional>
#include <memory>
#include <string>
#include <vector>

#include "core/condition/condition.h"
#include "core/event.h"
#include "core/options/options.h"
#include "core/steps/fields_there.h"
#include "core/template/library.h"

namespace dingle {

// What one step did to one batch. in + created = out + merged + dropped + failed: an event that failed is
// kept, marked and passed on, but counted apart.
struct StepTally {
  std::uint64_t in = 0, created = 0, out = 0, merged = 0, dropped = 0, failed = 0;
  std::uint64_t nanoseconds = 0;         // that it took, of wall-clock time
  std::uint64_t fields_left_out = 0;     // that an event could not take: too many of them, or too many names
  std::uint64_t values_as_text = 0;      // numbers and strings that could only be kept as they were written
  std::uint64_t stood_for = 0;           // events that those it made stand for, of those that it merged
  std::uint64_t early = 0;               // what it sent or forgot before its time, since its memory was full
  std::uint64_t passed_around = 0;       // events from the past, which a step with memory does not see
  std::uint64_t measured = 0;            // events whose bytes were measured (Work::measure)
  std::uint64_t bytes_in = 0;            // of those
  std::uint64_t bytes_out = 0;           // of what was there behind it
  std::uint64_t gave_up = 0;             // texts of which it could not look at all: there was a bound
  std::uint64_t missed = 0;              // values that it looked for, and that were not there
  std::uint64_t unbalanced = 0;          // events by which the counts do not add up; set by the pipeline
  std::vector<std::uint64_t> matched;    // parse: by template
  std::vector<std::uint64_t> expensive;  // parse: lines on which a template gave up, by template
  void add(const StepTally& other);
};

enum class Unparsed;
class HidingStep;
class MemoryStep;
class Sealing;

// Reads an event's fields for conditions.
class EventReader final : public FieldReader {
 public:
  EventReader(const Batch& batch, const Event& event) : batch_(batch), event_(event) {}
  Value get(FieldId field) const override { return batch_.get(event_, field); }
  bool any_text(const std::function<bool(std::string_view)>& test) const override;

 private:
  const Batch& batch_;
  const Event& event_;
};

// What a step may rely on: its options are sound (`make` is called with no others), and of the names that
// belong to the program it sees `dingle.unmatched` and `dingle.unmatched.column`, where a step before it
// failed.
class Step {
 public:
  virtual ~Step() = default;
  // Works on the events that `takes` them: not dropped, and where the step's condition holds. Counts what it
  // did with those in `tally`; the pipeline counts the others.
  virtual void run(Batch& batch, StepTally& tally) const = 0;
  // For check: why no event can pass behind this step, or "".
  virtual std::string stops_everything() const { return ""; }
  // Itself, if it has memory (core/steps/memory.h).
  virtual const MemoryStep* with_memory() const { return nullptr; }
  // Itself, if it hides what others must not see (core/steps/hiding.h).
  virtual const HidingStep* hides() const { return nullptr; }
  // For a step that hides: what becomes of events that were not taken apart. Before it runs.
  virtual void treat_unparsed(Unparsed, std::shared_ptr<const Sealing>) {}
  // What it does with a key; nullptr if it needs none.
  virtual std::shared_ptr<const Sealing> keyed() const { return nullptr; }
  // The texts that it would capture of this event, where they stand: views into the texts that it takes apart. For people,
  // who see line and fields together; costs more than `run`.
  struct Captured {
    std::string field;  // its name
    std::string_view text;
  };
  virtual std::vector<Captured> captured(const Batch&, const Event&) const { return {}; }
  // For check: the fields that it reads, and which are there behind it. Its condition is looked at by the caller.
  virtual void follow(StepFields&) const {}
  // Its templates as they were written; `matched` and `expensive` have one entry for each.
  virtual std::vector<std::string> templates() const { return {}; }

  std::string kind, name, was;       // name: its own, or ""; was: its former one, or ""
  std::uint16_t number = 1;          // within its pipeline, counted from 1
  bool off = false;                  // it lets everything pass
  bool leaves_alerts = false;        // what `alert` makes is not for it
  std::unique_ptr<Condition> where;  // nullptr: every event
  bool takes(const Batch& batch, const Event& event) const {
    return event.dropped_by == 0 && !(leaves_alerts && event.is_alert) &&
           (!where || where->holds(EventReader(batch, event)));
  }

 protected:
  // For an event that the step could not work on. It is kept, passed on and counted as failed. The first
  // failure marks it: `dingle.unmatched` has the reason (without the step's kind where that is `parse`),
  // `dingle.unmatched.column` the place in the text, counted from 1, if there is one (mismatch_sentence makes a
  // sentence of the two); it is counted as
  // unmatched by its pipeline, and sampled for `dingle unmatched`. `why` is copied.
  void fail(Batch& batch, Event& event, StepTally& tally, std::string_view why, std::size_t column = 0) const;
  // Calls `work(event)` for each event that the step takes.
  template <class Work>
  void each(Batch& batch, StepTally& tally, Work work) const {
    for (Event& event : batch.events) {
      if (!takes(batch, event)) continue;
      ++tally.in;
      work(event);
    }
  }
};

// In the place of one that is switched off.
class OffStep final : public Step {
 public:
  OffStep() { off = true; }
  void run(Batch&, StepTally&) const override {}
};

// What a step is made from.
struct StepMaking {
  const Options& options;
  const PatternLibrary& patterns;
  Findings& findings;
  // What uses the secret at that place; empty: nothing can.
  using SealingOf = std::function<std::shared_ptr<const Sealing>(const std::string& place)>;
  SealingOf sealing = {};
};

struct StepKind {
  ComponentSpec spec;
  std::unique_ptr<Step> (*make)(const StepMaking&);  // nullptr when it reported errors
  bool has_memory = false;
  bool leaves_alerts =
      false;  // it takes events away, or counts them: alerts pass, unless its condition names them
};

// Whether a step may write fields of that name; if not, says so at `node`: some belong to the event itself
// (belongs_to_event). The body may be written.
bool writable_field(const StepMaking& m, const Node& node, std::string_view name);

const std::vector<StepKind>& step_kinds();  // sorted by name
const StepKind* step_kind(std::string_view name);

struct StepRegistration {
  explicit StepRegistration(StepKind kind);
};

}  // namespace dingle
