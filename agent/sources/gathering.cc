#include "agent/sources/gathering.h"

#include <algorithm>
#include <utility>

namespace dingle {

bool Gathering::add(SourceBatch batch) {
  if (refused_) return false;
  const bool large = batch.buffer && batch.buffer->size > kSmall;
  const bool full = any_ && (gathered_.slices.size() == kMostSlices ||
                             (batch.buffer && used_ + batch.buffer->size > kEnough));
  if ((large || full) && !flush()) return false;
  if (large || (!any_ && (last_ == 0 || clock_.steady() - last_ >= kMoment))) return submit(std::move(batch));
  merge(std::move(batch));
  return flush_if_due();
}

bool Gathering::flush_if_due() { return !any_ || clock_.steady() - last_ < kMoment || flush(); }

bool Gathering::flush() {
  if (!any_) return !refused_;
  any_ = false;
  if (buffer_) {
    buffer_->finish(used_);
    gathered_.buffer = std::exchange(buffer_, nullptr);
  }
  used_ = 0;
  return submit(std::exchange(gathered_, SourceBatch()));
}

bool Gathering::submit(SourceBatch batch) {
  last_ = clock_.steady();
  refused_ = refused_ || !intake_.submit(std::move(batch));
  return !refused_;
}

void Gathering::merge(SourceBatch batch) {
  if (!std::exchange(any_, true)) gathered_.source = std::move(batch.source);
  if (gathered_.lines.empty()) gathered_.observed = batch.observed;  // changes alone were not observed
  gathered_.bytes += batch.bytes;
  for (StateChange& change : batch.changes.state) gathered_.changes.state.push_back(std::move(change));
  for (const CounterChange& change : batch.changes.counters) {
    auto& all = gathered_.changes.counters;
    const auto same = std::find_if(all.begin(), all.end(), [&](const auto& c) { return c.id == change.id; });
    if (same == all.end())
      all.push_back(change);
    else
      same->change += change.change;
  }
  if (batch.lines.empty()) return;
  if (!buffer_) buffer_ = std::make_shared<LineBuffer>(kEnough);
  const auto slice = static_cast<std::uint16_t>(gathered_.slices.size());
  gathered_.slices.push_back(std::move(batch.slices.front()));
  const char* const from = batch.buffer->bytes.get();
  char* const to = buffer_->bytes.get() + used_;
  std::copy_n(from, batch.buffer->size, to);
  used_ += batch.buffer->size;
  for (SourceLine& line : batch.lines)
    gathered_.lines.push_back({{to + (line.text.data() - from), line.text.size()}, line.position, slice});
}

}  // namespace dingle
