// What becomes of some lines: the processor. Nothing else runs steps.
//
//   Work work(flow, arrived);
//   work.watch(&observer);                        // if somebody looks
//   while (auto turnstile = work.advance())       // runs every pipeline that the lines reach, up to a step with memory
//     work.turn(memories[*turnstile], turn);      // when it is this work's turn there
//   for (const Work::Made& made : work.made()) ... // by node of the flow, in its order
//
// Pure: no clock but for what steps took, no I/O, no threads. The flow, the texts and the observer outlive it.
#pragma once

#include <algorithm>
#include <cstdint>
#include <deque>
#include <map>
#include <memory>
#include <optional>
#include <span>
#include <string_view>
#include <vector>

#include "core/flow/flow.h"
#include "core/flow/line_header.h"

namespace dingle {

struct SourceLine {
  std::string_view text;
  std::uint64_t position = 0;  // of its first byte in the stream
  std::uint16_t slice = 0;     // of its batch; ascending within one
};

// Lines of one source, and what is known of their streams. Not owned.
struct Arrived {
  std::string_view source;
  std::span<const SourceLine> lines;
  std::shared_ptr<const LineBuffer> buffer;           // in which all texts stand
  std::span<const std::span<const Field>> resources;  // by slice
  Zone zone;
  std::int64_t observed = 0;  // ns since 1970 UTC
  std::string_view configuration;
  const LineHeader* header = nullptr;                // of its lines, if its source's have one
  std::span<const std::int64_t> observed_each = {};  // by line, where not all were read at once; else empty
};

// Looks at events between steps. What it is shown holds until it returns.
class FlowObserver {
 public:
  virtual ~FlowObserver() = default;
  virtual void entered(const Flow::Node&, const Batch&) {}
  virtual void stepped(const Flow::Node&, const Step&, const Batch&) {}
  // Behind the last step; what was dropped is still there, with the step that did it.
  virtual void finished(const Flow::Node&, const Batch&) {}
  // Called only if there are events that go nowhere: routed[i] is false for those.
  virtual void unrouted(const Flow::Node&, const Batch&, const std::vector<bool>& routed) { (void)routed; }
};

class Work {
 public:
  // Not lines, but time: steps with memory send what is due.
  struct Tick {
    Turn::Why why = Turn::Why::due;
    std::vector<bool> of = {};  // by turnstile; empty: of all
  };
  // For what is sent again: everything goes its way, so that branches are what they were, but only this event comes out.
  struct Again {
    std::size_t node = 0;  // that made it; SIZE_MAX: none does any more
    std::uint32_t branch = 0;
    std::size_t destination = SIZE_MAX;  // SIZE_MAX: nothing comes out; who asks looks at what was made
  };

  struct Output {
    std::size_t destination = 0;
    std::uint64_t count = 0;         // events for it
    std::uint64_t fingerprints = 0;  // the sum of theirs
    std::vector<bool> takes;         // by event; empty: all of them
  };
  // What one pipeline made.
  struct Made {
    std::size_t node = 0;
    Batch batch;                                      // its finished events, without those that were dropped
    std::vector<StepTally> tallies;                   // by step
    std::uint64_t in = 0, bytes_in = 0, dropped = 0;  // bytes of texts
    std::uint64_t created = 0, merged = 0;            // by its steps
    std::uint64_t unmatched = 0;                      // events that a step of it could not work on
    std::uint64_t unrouted = 0;    // events that go nowhere: to no destination, and to no pipeline
    std::uint64_t unbalanced = 0;  // by how many its steps' counts, and what is there, do not agree
    std::vector<Output> outputs;   // those that get events
    bool counts = true;            // false: it was only gone through
    bool idle() const { return in == 0 && created == 0; }
  };

  Work(const Flow& flow, const Arrived& arrived, std::optional<Again> again = {});
  // For lines that enter this node alone, whatever it takes from. Those that it does not let in are left over, and go no further.
  Work(const Flow& flow, const Arrived& arrived, std::size_t entry, std::optional<Again> again = {});
  Work(const Flow& flow, const Arrived& nothing, Tick tick);  // of no source, and without lines
  void watch(FlowObserver* observer) { observer_ = observer; }
  // Measures the bytes before and behind each step.
  void measure() { measures_ = true; }
  // Goes on to the next turn that it needs, and answers of which turnstile; nothing when it is done. Turnstiles come in
  // their order. Answers the same until the turn was taken.
  std::optional<std::size_t> advance();
  // Takes that turn. `turn.now` is the caller's, and `turn.changes` are for it; the rest is set here.
  void turn(StepMemory& memory, Turn& turn);
  // Of the slices behind those that arrived (at least one), by which turnstile their events were made.
  const std::vector<std::size_t>& made_slices() const { return made_slices_; }

  std::deque<Made>& made() { return made_; }
  // When it is done: by event, whether another pipeline, which hides, took its line, and this one stores it as it is; of events
  // that a step made, whether one may have. Empty: none.
  std::vector<bool> hidden_elsewhere(const Made& made) const;
  // By event, whether its body is not the line as it came; empty: none.
  std::vector<bool> altered(const Made& made) const;
  std::uint64_t leftovers() const { return leftovers_; }  // lines that no pipeline took from its source
  const std::vector<std::size_t>& left() const {
    return left_;
  }  // those that no pipeline took at all; indexes of lines
  std::uint64_t unbalanced() const { return unbalanced_; }  // of lines against what entered pipelines

 private:
  std::size_t arrived_slices() const { return std::max<std::size_t>(1, in_.resources.size()); }
  void take_lines(Made& made, const Flow::Node& node, const std::vector<bool>* taken);
  void take_events(Made& made, const Made& before);
  void note_hidden(const Made& made);
  void add(std::size_t node);
  void begin();
  void enter(Made& made);
  void tell_apart(Made& made);
  // For one more event of an event's line; `line` is where lines are looked for, and only goes on.
  std::uint32_t next_branch(const Event& e, std::size_t& line);
  bool pass_memory(Made& made);
  void leave(Made& made);
  void route(Made& made, const Flow::Node& node);

  const Flow& flow_;
  const Arrived& in_;
  std::optional<Again> again_;
  std::optional<std::size_t> entry_;
  FlowObserver* observer_ = nullptr;
  bool measures_ = false;
  std::pair<std::size_t, std::size_t> weighed_{SIZE_MAX, 0};  // of made_, and the step
  std::deque<Made> made_;
  std::optional<Tick> tick_;
  bool begun_ = false, entered_ = false;
  std::size_t at_ = 0, step_ = 0;       // of made_, and of the steps there
  std::optional<std::size_t> waiting_;  // for its turn at this turnstile
  std::size_t turned_ = 0;              // the last turnstile that was passed, plus 1
  Pipeline::Prepared prepared_;
  std::optional<Pipeline::Present> present_;  // of the batch at_, since its last step
  std::vector<std::size_t> made_slices_;
  std::vector<bool> taken_;              // by line, before leftovers go on; empty if there are none
  std::vector<std::uint32_t> branches_;  // by line: how many were given
  std::map<std::pair<std::uint16_t, std::uint64_t>, std::uint32_t>
      branches_of_made_;      // by slice and position, beside the first
  std::vector<bool> hidden_;  // by line: a pipeline that hides took it
  std::uint64_t leftovers_ = 0, unbalanced_ = 0;
  std::vector<std::size_t> left_;
};

}  // namespace dingle
