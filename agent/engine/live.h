// The live view: shows events as pipelines make them, to whoever is looking. Costs nothing while nobody is. A
// viewer that is too slow misses events, and is told how many; nothing waits for it.
#pragma once

#include <atomic>
#include <cstdint>
#include <deque>
#include <list>
#include <memory>
#include <string>
#include <vector>

#include "core/condition/condition.h"
#include "core/flow/work.h"
#include "spool/mutex.h"

namespace dingle {

class Live final : public FlowObserver {
 public:
  // One looking.
  class Viewer {
   public:
    // `dropped`: instead of what comes out of pipelines, what a step of them drops, or no condition of `to` holds for.
    Viewer(Condition where, std::string pipeline, bool dropped)
        : where_(std::move(where)), pipeline_(std::move(pipeline)), dropped_(dropped) {}
    // The next events as JSON lines, waiting up to `timeout_ms` for one; "" if none came. `missed` grows by
    // what was left out because the viewer was slow: events that matched, or might have.
    std::string take(int timeout_ms, std::uint64_t* missed);
    bool ended();  // nothing more will come

   private:
    friend class Live;
    static constexpr std::size_t kMostBytes = 4 << 20, kRoom = 64 << 10;
    Condition where_;
    std::string pipeline_;  // "" : all
    bool dropped_;
    Mutex mutex_;
    Signal news_;
    std::deque<std::string> lines_ GUARDED_BY(mutex_);
    std::size_t bytes_ GUARDED_BY(mutex_) = 0;
    std::uint64_t missed_ GUARDED_BY(mutex_) = 0;
    bool ended_ GUARDED_BY(mutex_) = false;
  };

  std::shared_ptr<Viewer> add(Condition where, std::string pipeline, bool dropped);
  void remove(const std::shared_ptr<Viewer>& viewer);
  bool watched() const { return viewers_count_.load(std::memory_order_relaxed) != 0; }
  // The events of a pipeline behind its last step, dropped ones with the rest.
  void finished(const Flow::Node& node, const Batch& batch) override;
  void unrouted(const Flow::Node& node, const Batch& batch, const std::vector<bool>& routed) override;
  void end();  // lets all viewers return

 private:
  template <class Shown>
  void show(const Batch& batch, std::string_view pipeline, bool dropped, Shown shown);
  std::vector<std::shared_ptr<Viewer>> viewers(std::string_view pipeline, bool dropped);

  Mutex mutex_;
  std::list<std::shared_ptr<Viewer>> viewers_ GUARDED_BY(mutex_);
  std::atomic<int> viewers_count_{0};
  // Workers ask conditions for viewers no longer than a share of the time: until then they are ahead of it, in ns of the steady
  // clock.
  std::atomic<std::int64_t> paid_until_{0};
};

}  // namespace dingle
