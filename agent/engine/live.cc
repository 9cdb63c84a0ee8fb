#include "agent/engine/live.h"

#include <chrono>

#include "core/steps/step.h"
#include "spool/events.h"

namespace dingle {

std::string Live::Viewer::take(int timeout_ms, std::uint64_t* missed) {
  std::unique_lock lock(mutex_);
  news_.wait_for(lock, std::chrono::milliseconds(timeout_ms), [&] { return ended_ || !lines_.empty(); });
  std::string out;
  while (!lines_.empty() && out.size() < 256 * 1024) {
    out += lines_.front();
    lines_.pop_front();
  }
  bytes_ -= out.size();
  *missed += missed_;
  missed_ = 0;
  return out;
}

bool Live::Viewer::ended() {
  std::lock_guard lock(mutex_);
  return ended_ && lines_.empty();
}

std::shared_ptr<Live::Viewer> Live::add(Condition where, std::string pipeline) {
  auto viewer = std::make_shared<Viewer>(std::move(where), std::move(pipeline));
  std::lock_guard lock(mutex_);
  viewers_.push_back(viewer);
  ++viewers_count_;
  return viewer;
}

void Live::remove(const std::shared_ptr<Viewer>& viewer) {
  std::lock_guard lock(mutex_);
  viewers_.remove(viewer);
  viewers_count_ = static_cast<int>(viewers_.size());
}

void Live::show(const Batch& batch, std::string_view pipeline, std::string_view configuration) {
  std::vector<std::shared_ptr<Viewer>> viewers;
  {
    std::lock_guard lock(mutex_);
    viewers.assign(viewers_.begin(), viewers_.end());
  }
  for (const auto& viewer : viewers) {
    if (!viewer->pipeline_.empty() && viewer->pipeline_ != pipeline) continue;
    for (std::size_t i = 0; i < batch.events.size(); ++i) {
      const Event& event = batch.events[i];
      if (event.dropped) continue;
      {
        // Who does not read is not rendered for, nor asked what it would want: the rest may have matched.
        std::lock_guard viewer_lock(viewer->mutex_);
        if (viewer->bytes_ >= Viewer::kMostBytes - Viewer::kRoom) {
          viewer->missed_ += batch.events.size() - i;
          break;
        }
      }
      if (!viewer->where_.holds(EventReader(batch, event))) continue;
      SpooledEvent e;
      e.pipeline = pipeline;
      e.configuration = configuration;
      e.template_number = event.template_number;
      e.timestamp = event.timestamp;
      e.observed = event.observed;
      e.body = event.body;
      e.fields = event.all();
      e.resource = batch.resource;
      std::string line;
      append_event_json(e, line);
      line += '\n';
      std::lock_guard viewer_lock(viewer->mutex_);
      if (viewer->bytes_ + line.size() > Viewer::kMostBytes) {
        ++viewer->missed_;
        continue;
      }
      viewer->bytes_ += line.size();
      viewer->lines_.push_back(std::move(line));
      viewer->news_.notify_one();
    }
  }
}

void Live::end() {
  std::lock_guard lock(mutex_);
  for (const auto& viewer : viewers_) {
    std::lock_guard viewer_lock(viewer->mutex_);
    viewer->ended_ = true;
    viewer->news_.notify_all();
  }
}

}  // namespace dingle
