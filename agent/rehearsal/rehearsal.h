// Rehearsals: sample lines put through the pipelines of a configuration as they would be in earnest, each step looked at, and
// nothing sent or counted.
//
//   Rehearsal rehearsal({configuration, "gate", "", lines, system_now()});
//   for (const Rehearsal::OfPipeline& p : rehearsal.pipelines()) ...
//   Json answer = json_of(rehearsal, 20);
//
// Steps with memory begin with an empty one, or with the copy that is given; all that they hold at the end of the sample comes
// out, marked. Costs some times what the lines cost in earnest.
#pragma once

#include <cstdint>
#include <deque>
#include <functional>
#include <map>
#include <memory>
#include <span>
#include <stdexcept>
#include <string>
#include <string_view>
#include <vector>

#include "agent/configuration.h"
#include "agent/json.h"
#include "agent/sources/source.h"
#include "core/flow/work.h"

namespace dingle {

class Rehearsal {
 public:
  static constexpr std::size_t kMostLines = 100'000;
  static constexpr std::size_t kMostBytes = 64 << 20;     // of lines
  static constexpr std::size_t kMostAnswered = 32 << 20;  // bytes of events as JSON, about
  static constexpr std::size_t kMostMade = 512 << 20;     // bytes that steps make of the lines
  struct Asked {
    const Configuration& configuration;
    std::string source;    // whose lines these are
    std::string pipeline;  // only what this one does; "": all of them
    const std::vector<SampleLine>& lines;
    std::int64_t now;  // ns since 1970 UTC: when they were read
    // By turnstile; empty: all begin empty.
    std::vector<std::unique_ptr<StepMemory>> memories = {};
    // Asked now and then: why it is to end now, or "".
    std::function<std::string()> ends = nullptr;
  };
  // It was ended, or made more than kMostMade: what() says why.
  struct Ended : std::runtime_error {
    using std::runtime_error::runtime_error;
  };
  // The configuration outlives it; the lines need not. Throws Ended.
  explicit Rehearsal(Asked asked);

  // Bytes of the line as it came, in which a value stands.
  struct Span {
    std::size_t from = 0, length = 0;
  };
  struct Change {
    FieldId field = kNoField;
    Value before, after;  // absent: it was not there; it is gone
    std::optional<Span> span;
  };
  // What one step did to one event.
  struct Done {
    std::uint16_t step = 0;  // counted from 1
    bool passed_by = false;  // its condition did not hold
    bool failed = false;
    std::vector<Change> changes;
  };
  enum class Outcome { failed, dropped, merged, unrouted, goes_on };
  static constexpr std::size_t kNone = SIZE_MAX;
  struct Traced {
    std::size_t line = kNone;  // its index; kNone: a step made it
    std::uint16_t made_by = 0;
    bool at_end = false;  // made when the sample was at its end
    Outcome outcome = Outcome::goes_on;
    std::uint16_t ended_by = 0;  // the step that failed on it first, dropped it, or merged it
    std::string reason;          // of a failure
    std::uint64_t column = 0;    // counted from 1; 0: none
    std::vector<Done> steps;
    // At its end. The texts live as long as the rehearsal.
    std::string_view body;
    std::int64_t timestamp = 0, observed = 0;
    std::vector<Field> fields;
    std::map<FieldId, Span> spans;
    std::vector<std::pair<std::size_t, std::string>>
        to;  // destination's index, and the name that its namer gives
  };
  struct OfStep {
    StepTally tally;
    std::uint64_t changed = 0;  // events
    struct Made {
      FieldId field = kNoField;
      std::uint64_t events = 0;
      std::map<std::string_view, std::uint64_t> kinds;  // by name
    };
    std::vector<Made> fields;  // that it added, in the order in which they came
  };
  struct NotTaken {
    std::size_t line = 0;
    const char* why;  // "where", "unless", "taken by others"
  };
  struct OfPipeline {
    const Flow::Node* node = nullptr;
    std::string unreached;  // why no line of the source can come to it, or ""
    std::uint64_t in = 0, bytes_in = 0;
    std::vector<OfStep> steps;
    std::vector<Traced> events;       // in the order in which they came
    std::vector<NotTaken> not_taken;  // lines; none for one that takes from pipelines
    std::uint64_t count(Outcome outcome) const;
  };
  const std::vector<OfPipeline>& pipelines() const { return pipelines_; }
  const Configuration& configuration() const { return asked_.configuration; }
  std::size_t lines() const { return lines_.size(); }
  std::string_view line(std::size_t index) const { return lines_[index].text; }
  std::size_t leftovers() const { return leftovers_; }  // lines that no pipeline took
  const std::string& source() const { return asked_.source; }

 private:
  class Observer;
  void run(Work& work, std::vector<std::unique_ptr<StepMemory>>& memories, Observer& observer);
  void note_not_taken();
  void go_on(std::size_t made) const;

  Asked asked_;
  std::shared_ptr<LineBuffer> buffer_;
  std::vector<SourceLine> lines_;
  std::vector<std::shared_ptr<const Resource>> kept_;  // those of the slices
  std::vector<std::span<const Field>> resources_;
  Arrived arrived_, nothing_;
  // Some lines each: what they hold is shown.
  std::deque<Arrived> parts_;
  std::deque<Work> of_lines_;
  std::size_t made_ = 0;  // bytes, by those that are done
  std::optional<Work> of_end_;
  std::vector<OfPipeline> pipelines_;
  std::size_t leftovers_ = 0;
};

const char* name_of(Rehearsal::Outcome outcome);

// At most so many events of each outcome; failed ones first. Beyond kMostAnswered none; `cut_at_bytes` says so.
Json json_of(const Rehearsal& rehearsal, std::size_t most);
// The lines of a text, cut and joined as that source would; each is copied.
std::vector<SampleLine> lines_of_text(const Configuration& configuration, std::string_view source,
                                      std::string_view text);
// A source whose lines reach the pipeline; "" if there is none.
std::string source_for(const Configuration& configuration, std::string_view pipeline);

}  // namespace dingle
