#include "agent/engine/live.h"

#include <chrono>
#include <optional>
#include <utility>

#include "core/steps/step.h"
#include "spool/events.h"

namespace dingle {
namespace {

// However dear conditions are, and whoever watches: so much of one core goes into that, and the rest is missed.
constexpr std::int64_t kShare = 4;            // a quarter
constexpr std::int64_t kAhead = 200'000'000;  // ns that may be used at once

std::int64_t steady_now() { return std::chrono::steady_clock::now().time_since_epoch().count(); }

}  // namespace

std::string Live::Viewer::take(int timeout_ms, std::uint64_t* missed) {
  Lock lock(mutex_);
  news_.wait_for(mutex_, std::chrono::milliseconds(timeout_ms),
                 [&]() REQUIRES(mutex_) { return ended_ || !lines_.empty(); });
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
  Lock lock(mutex_);
  return ended_ && lines_.empty();
}

std::shared_ptr<Live::Viewer> Live::add(Condition where, std::string pipeline, bool dropped) {
  auto viewer = std::make_shared<Viewer>(std::move(where), std::move(pipeline), dropped);
  Lock lock(mutex_);
  viewers_.push_back(viewer);
  ++viewers_count_;
  return viewer;
}

void Live::remove(const std::shared_ptr<Viewer>& viewer) {
  Lock lock(mutex_);
  viewers_.remove(viewer);
  viewers_count_ = static_cast<int>(viewers_.size());
}

std::vector<std::shared_ptr<Live::Viewer>> Live::viewers(std::string_view pipeline, bool dropped) {
  Lock lock(mutex_);
  std::vector<std::shared_ptr<Viewer>> all;
  for (const auto& v : viewers_)
    if (v->dropped_ == dropped && (v->pipeline_.empty() || v->pipeline_ == pipeline)) all.push_back(v);
  return all;
}

// `shown(i)`: whether event i is, and for a dropped one the name of the step.
template <class Shown>
void Live::show(const Batch& batch, std::string_view pipeline, bool dropped, Shown shown) {
  for (const auto& viewer : viewers(pipeline, dropped)) {
    std::int64_t asked_at = steady_now();
    for (std::size_t i = 0; i < batch.events.size(); ++i) {
      const Event& event = batch.events[i];
      const std::optional<std::string_view> by = shown(i);
      if (!by) continue;
      const std::int64_t now = steady_now(), used = now - std::exchange(asked_at, now);
      std::int64_t paid = paid_until_, next = 0;
      do next = std::max(paid, now) + used * kShare;
      while (!paid_until_.compare_exchange_weak(paid, next));
      if (next > now + kAhead) {
        Lock viewer_lock(viewer->mutex_);
        viewer->missed_ += batch.events.size() - i;
        break;
      }
      {
        // Who does not read is not rendered for, nor asked what it would want: the rest may have matched.
        Lock viewer_lock(viewer->mutex_);
        if (viewer->bytes_ >= Viewer::kMostBytes - Viewer::kRoom) {
          viewer->missed_ += batch.events.size() - i;
          break;
        }
      }
      if (!viewer->where_.holds(EventReader(batch, event))) continue;
      SpooledEvent e;
      e.pipeline = pipeline;
      e.configuration = batch.configuration;
      e.template_number = event.template_number;
      e.timestamp = event.timestamp;
      e.observed = event.observed;
      e.body = event.body;
      std::vector<Field> fields(event.all().begin(), event.all().end());
      if (dropped) fields.push_back({names::dropped_by, Value::text(*by)});
      if (event.dropped_by != 0) fields.push_back({names::step, Value::integer(event.dropped_by)});
      e.fields = fields;
      e.resource = batch.resource_of(event);
      std::string line;
      append_event_json(e, line);
      line += '\n';
      Lock viewer_lock(viewer->mutex_);
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

void Live::finished(const Flow::Node& node, const Batch& batch) {
  const Pipeline& pipeline = *node.pipeline;
  for (const bool dropped : {false, true})
    show(batch, pipeline.name, dropped, [&](std::size_t i) -> std::optional<std::string_view> {
      const std::uint16_t by = batch.events[i].dropped_by;
      if ((by != 0) != dropped) return std::nullopt;
      if (!dropped) return "";
      const Step& step = *pipeline.steps[by - 1u];
      return step.name.empty() ? step.kind : step.name;
    });
}

void Live::unrouted(const Flow::Node& node, const Batch& batch, const std::vector<bool>& routed) {
  show(batch, node.pipeline->name, true, [&](std::size_t i) -> std::optional<std::string_view> {
    if (routed[i]) return std::nullopt;
    return "to";
  });
}

void Live::end() {
  Lock lock(mutex_);
  for (const auto& viewer : viewers_) {
    Lock viewer_lock(viewer->mutex_);
    viewer->ended_ = true;
    viewer->news_.notify_all();
  }
}

}  // namespace dingle
