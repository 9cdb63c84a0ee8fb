// Many small pieces of a source's streams as few batches: what one batch costs (a ticket, a record, a turn at each
// step with memory) does not depend on how little is in it.
//
// A batch goes on at once, unless the last one did so a moment ago: then what comes is gathered until that moment is
// over, or enough is there. So a quiet source is not made slower, and a busy one hands in at most 200 batches a second
// more than its bytes need.
#pragma once

#include "agent/sources/source.h"

namespace dingle {

// For the thread of its source, which outlives it, as does the clock.
class Gathering {
 public:
  static constexpr std::int64_t kMoment = 5'000'000;  // ns
  static constexpr std::size_t kEnough = 256 * 1024;  // bytes
  static constexpr std::size_t kSmall = 32 * 1024;    // more is not copied, but goes on as it is
  static constexpr std::size_t kMostSlices = 4096;

  Gathering(Intake& intake, const Clock& clock) : intake_(intake), clock_(clock) {}

  // Takes a batch of one slice, or without lines. Lines and changes keep the order of the calls. May wait, as
  // Intake::submit does. False when the engine takes no more.
  bool add(SourceBatch batch);
  bool flush_if_due();  // to be called before the source waits for longer than a moment
  bool flush();
  std::int64_t last() const { return last_; }           // when one went on, of the steady clock
  std::int64_t due() const { return last_ + kMoment; }  // for what is gathered
  bool refused() const { return refused_; }
  bool empty() const { return !any_; }

 private:
  bool submit(SourceBatch batch);
  void merge(SourceBatch batch);

  Intake& intake_;
  const Clock& clock_;
  SourceBatch gathered_;
  std::shared_ptr<LineBuffer> buffer_;  // of what is gathered
  std::size_t used_ = 0;
  bool any_ = false, refused_ = false;
  std::int64_t last_ = 0;  // when one went on
};

}  // namespace dingle
