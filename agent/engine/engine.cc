#include "agent/engine/engine.h"

#include <algorithm>
#include <cstring>
#include <filesystem>

#include "agent/destinations/index.h"
#include "agent/secret.h"
#include "core/time/instant.h"
#include "spool/events.h"
#include "spool/memory.h"

namespace dingle {

using namespace std::chrono_literals;

Result<std::unique_ptr<Engine>> Engine::start(std::shared_ptr<const Configuration> configuration,
                                              Problems::Listener listener) {
  std::unique_ptr<Engine> engine(new Engine(std::move(listener)));
  engine->data_ = configuration->server.text("data");
  engine->started_ = system_now();
  const Options& s = configuration->server.section("spool");
  SpoolSettings settings;
  settings.folder = engine->data_ + "/spool";
  settings.sync = s.text("sync") == "os"         ? SpoolSync::os
                  : s.text("sync") == "interval" ? SpoolSync::interval
                                                 : SpoolSync::batch;
  settings.interval = std::chrono::nanoseconds(s.number("interval"));
  settings.segment_size =
      std::clamp<std::uint64_t>(static_cast<std::uint64_t>(s.number("limit")) / 16, 1u << 20, 64u << 20);
  Disk* disk = &system_disk();
  if (s.text("on") == "memory") {
    engine->memory_ = make_memory_disk();
    disk = engine->memory_.get();
    settings.sync = SpoolSync::os;
    settings.track_acknowledged = true;
    std::error_code made;
    std::filesystem::create_directories(engine->data_, made);
    auto begin = load_snapshot(engine->data_ + "/memory-state");
    if (!begin) return begin.problem();
    settings.begin_with = std::move(*begin);
  }
  auto spool = Spool::open(*disk, settings);
  if (!spool) return spool.problem();
  engine->spool_ = std::move(*spool);
  engine->letters_ = std::make_unique<Letters>(
      engine->data_ + "/letters.sqlite",
      static_cast<std::uint64_t>(configuration->server.section("letters").number("limit")));
  engine->forget_resent();
  const Spool::Recovery& r = engine->spool_->recovery();
  if (r.damaged_records)
    engine->problems_.set("spool: damage", std::to_string(r.damaged_records) +
                                               " records of the spool were damaged on disk and are lost");
  std::string problem;
  engine->running_ = engine->prepare(std::move(configuration), &problem);
  if (!engine->running_) return Problem{problem, "", 0, 0};
  const auto workers = static_cast<std::size_t>(engine->running_->configuration->server.number("workers"));
  engine->most_in_flight_ = 2 * workers + 2;
  for (std::size_t i = 0; i < workers; ++i)
    engine->workers_.emplace_back([e = engine.get()] { e->run_worker(); });
  engine->committer_ = std::thread([e = engine.get()] { e->run_committer(); });
  engine->start_destinations();
  engine->start_sources();
  engine->meter_ = std::thread([e = engine.get()] { e->run_meter(); });
  return engine;
}

Engine::~Engine() { stop(0s); }

// Resolves names to ids; answers nullptr when the configuration cannot replace what runs.
std::shared_ptr<const Engine::Running> Engine::prepare(std::shared_ptr<const Configuration> configuration,
                                                       std::string* problem) {
  auto r = std::make_shared<Running>();
  r->configuration = configuration;
  // A destination that is gone must not take waiting events with it.
  for (const auto& [key, id] : spool_->state_with_prefix("destination/")) {
    const std::string name = key.substr(std::strlen("destination/"));
    bool taken_over = configuration->destination(name) != nullptr;
    for (const DestinationSettings& d : configuration->destinations) taken_over = taken_over || d.was == name;
    const Spool::Waiting waiting =
        spool_->waiting(static_cast<std::uint32_t>(std::strtoul(id.c_str(), nullptr, 10)));
    if (!taken_over && waiting.events > 0) {
      *problem =
          "the destination `" + name + "` is gone from the configuration, but " +
          std::to_string(waiting.events) +
          " events still wait for it; keep it until they are delivered, give its successor `was: " + name +
          "`, or make it `nowhere: {}` to throw them away";
      return nullptr;
    }
  }
  for (const DestinationSettings& d : configuration->destinations) {
    if (!d.was.empty() && configuration->destination(d.was) == nullptr)
      spool_->rename_destination(d.was, d.name);
    r->destination_ids[d.name] = spool_->destination(d.name);
  }
  for (std::size_t i = 0; i < configuration->pipelines.size(); ++i) {
    const PipelineSettings& p = configuration->pipelines[i];
    r->pipeline_ids.push_back(spool_->pipeline(p.name));
    r->to.emplace_back();
    for (const std::string& name : p.to) r->to.back().push_back(configuration->destination(name));
    for (const std::string& source : p.from) {
      r->pipelines_of[source].push_back(i);
      for (const DestinationSettings* d : r->to.back())
        if (d->kind->stores && d->common.section("queue").text("overflow") == "pause")
          r->pausing[source].insert(d);
    }
  }
  return r;
}

namespace {

// A destination goes on over a reload while this stays the same: its options, and the secrets that they name.
std::string written(const DestinationSettings& d) {
  return d.written + std::to_string(fingerprint_of_secrets(d.options));
}

}  // namespace

void Engine::start_destinations() {
  std::shared_ptr<const Running> running = running_;
  std::vector<std::uint32_t> ids;
  std::map<std::string, Delivering> old;
  {
    std::lock_guard lock(running_mutex_);
    for (auto it = deliveries_.begin(); it != deliveries_.end();) {
      const DestinationSettings* d = running->configuration->destination(it->first);
      if (d && written(*d) == it->second.written)
        ++it;
      else
        old.insert(deliveries_.extract(it++));
    }
  }
  old.clear();  // joins their threads
  for (const DestinationSettings& d : running->configuration->destinations) {
    const std::uint32_t id = running->destination_ids.at(d.name);
    ids.push_back(id);
    std::lock_guard lock(running_mutex_);
    if (deliveries_.count(d.name)) continue;
    auto made = d.kind->make({d, id, spool_->identity(), data_});
    deliveries_[d.name] = {
        written(d), d.kind->spec.name,
        std::make_unique<DeliveryThread>(d, id, std::move(made), *spool_, *letters_, problems_)};
  }
  spool_->keep_destinations(ids);
}

// Steps are counted since their configuration began.
void Engine::forget_old_steps() {
  const std::string current = "step/" + running_->configuration->version + "/";
  std::vector<CounterChange> changes;
  for (const auto& [name, value] : spool_->view().counters)
    if (name.starts_with("step/") && !name.starts_with(current)) changes.push_back({name, -value});
  if (!changes.empty()) spool_->count(std::move(changes));
}

void Engine::start_sources() {
  forget_old_steps();
  unmatched_.forget();
  std::lock_guard lock(running_mutex_);
  for (const SourceSettings& s : running_->configuration->sources) {
    auto source = s.kind->make({s, *this});
    source->start();
    sources_[s.name] = std::move(source);
  }
  left_.clear();
}

void Engine::leave(const std::string& key, std::shared_ptr<void> open) {
  std::lock_guard lock(running_mutex_);
  left_[key] = std::move(open);
}

// Called while sources are made.
std::shared_ptr<void> Engine::take_over(const std::string& key) {
  auto node = left_.extract(key);
  return node.empty() ? nullptr : std::move(node.mapped());
}

// Lets the sources hand in what they cannot read again.
void Engine::finish_sources(std::chrono::steady_clock::time_point deadline) {
  for (const auto& [name, source] : sources_) source->finish();
  while (std::chrono::steady_clock::now() < deadline &&
         !std::all_of(sources_.begin(), sources_.end(), [](const auto& s) { return s.second->finished(); }))
    std::this_thread::sleep_for(5ms);
}

// Stops the sources and lets what they handed in reach the spool. What cannot, because the spool is full, is
// forgotten: its checkpoint was not kept either, and the sources will read it again.
void Engine::quiesce() {
  {
    std::lock_guard lock(mutex_);
    quiescing_ = true;
  }
  room_.notify_all();
  done_.notify_all();
  std::map<std::string, std::unique_ptr<Source>> old;
  {
    std::lock_guard lock(running_mutex_);
    old.swap(sources_);
  }
  for (auto& [name, source] : old) source->stop();
  old.clear();
  std::unique_lock lock(mutex_);
  done_.wait(lock, [&] { return committed_ == next_ticket_; });
  quiescing_ = discarding_ = false;
}

std::string Engine::reload(std::shared_ptr<const Configuration> configuration) {
  std::lock_guard reloading(reloading_);
  if (stopping_) return "the program is stopping";
  for (const char* option : {"data", "listen"})
    if (configuration->server.text(option) != running_->configuration->server.text(option))
      return std::string("`server.") + option + "` cannot change while the program runs: restart it for that";
  std::string problem;
  auto next = prepare(std::move(configuration), &problem);
  if (!next) return problem;
  quiesce();
  problems_.clear_with_prefix("source ");
  {
    std::lock_guard lock(running_mutex_);
    running_ = next;
  }
  start_destinations();
  start_sources();
  return "";
}

void Engine::stop(std::chrono::nanoseconds within) {
  std::lock_guard reloading(reloading_);
  if (!committer_.joinable()) return;  // stopped already, or never started
  const auto deadline = std::chrono::steady_clock::now() + within;
  finish_sources(std::chrono::steady_clock::now() + within / 2);
  quiesce();
  while (std::chrono::steady_clock::now() < deadline) {
    const Spool::View view = spool_->view();
    if (std::all_of(view.waiting.begin(), view.waiting.end(),
                    [](const auto& w) { return w.second.events == 0; }))
      break;
    std::this_thread::sleep_for(5ms);
  }
  {
    std::lock_guard lock(mutex_);
    stopping_ = true;
  }
  work_.notify_all();
  done_.notify_all();
  {
    std::lock_guard lock(samples_mutex_);
    metering_stops_ = true;
  }
  meter_stop_.notify_all();
  if (meter_.joinable()) meter_.join();
  for (std::thread& worker : workers_) worker.join();
  workers_.clear();
  committer_.join();
  live_.end();
  std::map<std::string, Delivering> old;
  {
    std::lock_guard lock(running_mutex_);
    old.swap(deliveries_);
  }
  old.clear();
  save_memory();
}

// ---- the way of a batch
// ---------------------------------------------------------------------------------------------

void Engine::run_worker() {
  for (;;) {
    Job job;
    {
      std::unique_lock lock(mutex_);
      work_.wait(lock, [&] { return stopping_ || !queue_.empty(); });
      if (queue_.empty()) return;
      job = std::move(queue_.front());
      queue_.pop_front();
    }
    Spool::Append append = process(job);
    std::lock_guard lock(mutex_);
    processed_.emplace(job.ticket, std::move(append));
    done_.notify_all();
  }
}

// With the spool in memory: what files are read from after a restart.
void Engine::save_memory() {
  if (!memory_) return;
  if (const int error = save_snapshot(data_ + "/memory-state", spool_->acknowledged()))
    problems_.set("spool: memory", std::string("cannot save how far sources are: ") + std::strerror(error));
  else
    problems_.clear("spool: memory");
}

void Engine::run_committer() {
  for (;;) {
    Spool::Append append;
    std::shared_ptr<const Running> running;
    {
      std::unique_lock lock(mutex_);
      done_.wait(lock, [&] {
        return stopping_ || (!processed_.empty() && processed_.begin()->first == committed_);
      });
      if (processed_.empty() || processed_.begin()->first != committed_) return;
      append = std::move(processed_.begin()->second);
      processed_.erase(processed_.begin());
    }
    {
      std::lock_guard lock(running_mutex_);
      running = running_;
    }
    for (;;) {
      int error = 0;
      {
        std::lock_guard lock(mutex_);
        if (discarding_) break;
      }
      make_room(append, *running);
      error = spool_->append(append);
      if (error == 0) {
        paused_ = false;
        problems_.clear("spool");
        break;
      }
      problems_.set("spool",
                    std::string("cannot write the spool: ") + std::strerror(error) + "; sources are paused");
      paused_ = true;
      std::unique_lock lock(mutex_);
      done_.wait_for(lock, 20ms, [&] { return quiescing_ || stopping_; });
      if (quiescing_ || stopping_) discarding_ = true;
    }
    {
      std::lock_guard lock(mutex_);
      ++committed_;
      in_flight_bytes_ -= in_flight_.front();
      in_flight_.pop_front();
    }
    room_.notify_all();
    done_.notify_all();
  }
}

namespace {

void count(Changes& changes, std::string name, std::uint64_t n) {
  if (n != 0) changes.counters.push_back({std::move(name), static_cast<std::int64_t>(n)});
}

// The index names of a section's events for one destination.
std::uint64_t name_events(const Namer& namer, const Batch& batch, Section::To& to) {
  std::uint64_t implausible_times = 0;
  std::map<std::string, std::uint32_t> known;
  std::int64_t last_day = 0;
  std::uint32_t last = 0;
  bool have_last = false;
  for (const Event& event : batch.events) {
    bool implausible = false;
    if (namer.by_day_alone()) {
      const std::int64_t day = namer.day(event, &implausible);
      if (have_last && day == last_day) {
        implausible_times += implausible;
        to.name_of.push_back(last);
        continue;
      }
      last_day = day;
      have_last = true;
    }
    auto [it, added] = known.try_emplace(namer.name(batch, event, &implausible),
                                         static_cast<std::uint32_t>(to.names.size()));
    if (added) to.names.push_back(it->first);
    last = it->second;
    implausible_times += implausible;
    to.name_of.push_back(last);
  }
  return implausible_times;
}

}  // namespace

// Runs every pipeline that claims the batch, and encodes what they made.
Spool::Append Engine::process(const Job& job) {
  const SourceBatch& in = job.batch;
  const Running& running = *job.running;
  newest_lines_.add(in);
  Spool::Append out;
  out.changes = in.changes;
  std::vector<bool> claimed(in.lines.size(), false);
  std::deque<Batch> batches;
  std::vector<Section> sections;
  std::map<std::uint32_t, std::uint32_t> events_for;
  auto pipelines = running.pipelines_of.find(in.source);
  static const std::vector<std::size_t> kNone;
  for (std::size_t index : pipelines == running.pipelines_of.end() ? kNone : pipelines->second) {
    if (in.only_pipeline != 0 && in.only_pipeline != running.pipeline_ids[index]) continue;
    const PipelineSettings& settings = running.configuration->pipelines[index];
    const Pipeline& pipeline = *settings.pipeline;
    Batch& batch = batches.emplace_back();
    batch.buffer = in.buffer;
    batch.resource = in.resource->fields;
    batch.zone = in.resource->zone;
    batch.events.reserve(in.lines.size());
    for (std::size_t i = 0; i < in.lines.size(); ++i) {
      Event event;
      event.body = in.lines[i].text;
      event.position = in.lines[i].position;
      event.timestamp = event.observed = in.observed;
      if (pipeline.where && !pipeline.where->holds(EventReader(batch, event))) continue;
      claimed[i] = true;
      batch.events.push_back(event);
    }
    const std::string prefix = "pipeline/" + settings.name + "/";
    const std::uint64_t taken = batch.events.size();
    std::vector<StepTally> tallies;
    pipeline.run(batch, tallies);
    if (live_.watched()) live_.show(batch, settings.name, running.configuration->version);
    std::erase_if(batch.events, [](const Event& e) { return e.dropped; });
    std::uint64_t unmatched = 0;
    count(out.changes, prefix + "in", taken);
    count(out.changes, prefix + "out", batch.events.size());
    count(out.changes, prefix + "dropped", taken - batch.events.size());
    for (std::size_t s = 0; s < tallies.size(); ++s) {
      const StepTally& t = tallies[s];
      const std::string step =
          "step/" + running.configuration->version + "/" + settings.name + "/" + std::to_string(s) + "/";
      count(out.changes, step + "in", t.in);
      count(out.changes, step + "out", t.out);
      count(out.changes, step + "dropped", t.dropped);
      count(out.changes, step + "failed", t.failed);
      count(out.changes, prefix + "fields_left_out", t.fields_left_out);
      for (std::size_t m = 0; m < t.matched.size(); ++m)
        count(out.changes, step + "template/" + std::to_string(m + 1), t.matched[m]);
      for (std::size_t m = 0; m < t.expensive.size(); ++m)
        count(out.changes, step + "too_expensive/" + std::to_string(m + 1), t.expensive[m]);
      count(out.changes, step + "nanoseconds", t.nanoseconds);
    }
    const bool failures =
        std::any_of(tallies.begin(), tallies.end(), [](const StepTally& t) { return t.failed != 0; });
    for (const Event& e : failures ? std::span<const Event>(batch.events) : std::span<const Event>()) {
      const Field* reason = e.find(names::unmatched);
      if (reason == nullptr) continue;
      ++unmatched;
      const Field* column = e.find(names::unmatched_column);
      unmatched_.add(settings.name, e.body, reason->value.as_text(),
                     column ? static_cast<std::uint64_t>(column->value.as_integer()) : 0, e.observed);
    }
    count(out.changes, prefix + "unmatched", unmatched);
    if (batch.events.empty()) continue;

    Section section;
    section.pipeline_id = running.pipeline_ids[index];
    section.pipeline = settings.name;
    section.configuration = running.configuration->version;
    section.batch = &batch;
    for (const DestinationSettings* d : running.to[index]) {
      const std::uint32_t id = running.destination_ids.at(d->name);
      if (in.only_destination != 0 && in.only_destination != id) continue;
      if (!d->kind->stores) {
        count(out.changes, counter_of_destination(id, "thrown_away"), batch.events.size());
        continue;
      }
      Section::To to;
      to.destination = id;
      if (d->namer) count(out.changes, prefix + "implausible_times", name_events(*d->namer, batch, to));
      section.to.push_back(std::move(to));
      events_for[id] += static_cast<std::uint32_t>(batch.events.size());
    }
    if (!section.to.empty()) sections.push_back(std::move(section));
  }
  count(out.changes, "source/" + in.source + "/leftovers",
        static_cast<std::uint64_t>(std::count(claimed.begin(), claimed.end(), false)));
  if (!sections.empty()) out.events = encode_events(in.source, in.stream, in.resource->fields, sections);
  if (!out.events.empty() && running.configuration->server.section("spool").text("compression") == "zstd") {
    out.events = compress_events(out.events);
    out.compressed = true;
  }
  out.destinations.assign(events_for.begin(), events_for.end());
  return out;
}

}  // namespace dingle
