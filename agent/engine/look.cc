// What the engine tells of itself, and the thread that samples rates and does what is due once a second.
#include <bit>

#include "agent/destinations/index.h"
#include "agent/engine/engine.h"
#include "agent/guarded.h"
#include "agent/memory.h"
#include "core/time/instant.h"

namespace dingle {

using namespace std::chrono_literals;

std::shared_ptr<const Configuration> Engine::configuration() const {
  Lock lock(running_mutex_);
  return running_->configuration;
}

std::vector<Engine::DestinationState> Engine::destinations() const {
  Lock lock(running_mutex_);
  std::vector<DestinationState> all;
  Lock samples_lock(samples_mutex_);
  for (const auto& [name, d] : deliveries_) {
    const Histogram& latency = d.thread->latency();
    DestinationState s{name, d.kind, d.thread->id(), d.thread->status()};
    s.latency_p50 = latency.quantile(0.5);
    s.latency_p99 = latency.quantile(0.99);
    for (const double most : {0.005, 0.01, 0.025, 0.05, 0.1, 0.25, 0.5, 1.0, 2.5, 5.0, 10.0, 60.0, 600.0})
      s.latency_at_most.emplace_back(most, latency.at_most(most));
    s.latency_count = latency.count();
    s.latency_sum = latency.sum_seconds();
    if (samples_.size() > 1) {
      const Sample &first = samples_.front(), &last = samples_.back();
      const double seconds = std::chrono::duration<double>(last.at - first.at).count();
      auto from = first.counts.find(s.id), to = last.counts.find(s.id);
      if (from != first.counts.end() && to != last.counts.end()) {
        s.in_rate = static_cast<double>(to->second.first - from->second.first) / seconds;
        s.out_rate = static_cast<double>(to->second.second - from->second.second) / seconds;
      }
    }
    all.push_back(std::move(s));
  }
  return all;
}

// Gives up what has waited longer than `queue.age`.
void Engine::shed_old() {
  std::vector<std::pair<std::uint32_t, std::int64_t>> ages;
  {
    Lock lock(running_mutex_);
    for (const DestinationSettings& d : running_->configuration->destinations)
      if (const Options& queue = d.common.section("queue");
          queue.given("age") && queue.text("overflow") == "shed_oldest")
        ages.emplace_back(running_->id_of(d), queue.number("age"));
  }
  for (auto [id, age] : ages)
    spool_->shed_oldest(id, UINT64_MAX, system_now() - age, counter_of_destination(id, "shed_oldest"));
}

void Engine::run_meter() {
  constexpr std::size_t kSamples = 11;
  constexpr unsigned kQuiet = 5;  // seconds
  unsigned quiet = 0;
  while (true) {
    Sample sample{std::chrono::steady_clock::now(), {}};
    for (const auto& [id, w] : spool_->view().waiting)
      sample.counts[id] = {w.appended, w.appended - w.events};
    guarded(problems_, "engine: unforeseen", [this] {
      save_memory();
      shed_old();
      look_for_times();
      tick_if_due();
      end_leaving();
    });
    Lock lock(samples_mutex_);
    quiet = !samples_.empty() && samples_.back().counts == sample.counts ? quiet + 1 : 0;
    // What a burst needed goes back to the system: after 5, 10, 20, 40... seconds, since destinations may
    // tidy up long after the last event.
    if (quiet % kQuiet == 0 && std::has_single_bit(quiet / kQuiet)) {
      spool_->forget_buffers();
      give_back_memory();
    }
    samples_.push_back(std::move(sample));
    if (samples_.size() > kSamples) samples_.pop_front();
    if (meter_stop_.wait_for(samples_mutex_, 1s, [&]() REQUIRES(samples_mutex_) { return metering_stops_; }))
      return;
  }
}

std::vector<Engine::SourceState> Engine::sources() const {
  std::vector<SourceState> all;
  {
    Lock lock(running_mutex_);
    for (const SourceSettings& s : running_->configuration->sources) {
      SourceState state{s.name, s.kind->spec.name, {}, 0, {}, ""};
      if (auto it = sources_.find(s.name); it != sources_.end())
        state.bytes_behind = it->second.source->bytes_behind(), state.open = it->second.source->open(),
        state.listening = it->second.source->listening();
      all.push_back(std::move(state));
    }
  }
  // In the way of the bytes: what is handed in meanwhile is counted twice rather than not at all.
  Lock lock(mutex_);
  for (SourceState& s : all) {
    if (auto it = paused_sources_.find(s.name); it != paused_sources_.end()) s.waits_for = it->second;
    for (const InFlight& batch : in_flight_)
      if (batch.source == s.name && s.bytes_behind) *s.bytes_behind += batch.of_stream;
  }
  return all;
}

bool Engine::retry(const std::string& destination) {
  Lock lock(running_mutex_);
  const auto found = deliveries_.find(destination);
  if (found == deliveries_.end()) return false;
  found->second.thread->try_now();
  return true;
}

std::vector<Engine::Tallied> Engine::tallied() const {
  const std::shared_ptr<const Running> running = this->running();
  const Flow& flow = running->configuration->flow;
  const PackedMap state = spool_->whole_state();
  std::vector<Tallied> all;
  for (std::size_t i = 0; i < flow.turnstiles.size(); ++i) {
    const Pipeline& pipeline = *flow.nodes[flow.turnstiles[i].node].pipeline;
    const MemoryStep& step = *pipeline.steps[flow.turnstiles[i].step]->with_memory();
    if (step.metric_of() == nullptr) continue;
    Tallied& tallied = all.emplace_back(Tallied{pipeline.name, *step.metric_of(), {}});
    const std::string prefix = Turnstile::prefix(running->turnstiles[i]->id());
    state.each_with_prefix(prefix, [&](std::string_view key, std::string_view value) {
      TallySeries series;
      if (key.size() != prefix.size() && step.series_of(key.substr(prefix.size()), value, series))
        tallied.series.push_back(std::move(series));
    });
  }
  return all;
}

std::vector<std::shared_ptr<Store>> Engine::stores(const std::string& destination) const {
  Lock lock(running_mutex_);
  std::vector<std::shared_ptr<Store>> all;
  for (const DestinationSettings& d : running_->configuration->destinations)
    if (d.kind->spec.name == "index" && !d.options.given("at") &&
        (destination.empty() || destination == d.name))
      all.push_back(Store::at(index_folder(data_, running_->id_of(d))));
  return all;
}

}  // namespace dingle
