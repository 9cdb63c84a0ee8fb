#include "agent/engine/engine.h"

#include <algorithm>
#include <cerrno>
#include <cstring>
#include <filesystem>

#include "agent/configuration_hiding.h"
#include "agent/destinations/index.h"
#include "agent/secret.h"
#include "core/time/instant.h"
#include "spool/memory.h"

namespace dingle {

using namespace std::chrono_literals;

Result<std::unique_ptr<Engine>> Engine::start(std::shared_ptr<const Configuration> configuration,
                                              Problems::Listener listener, const Clock& clock,
                                              const Former& former, Disk& system) {
  std::unique_ptr<Engine> engine(new Engine(std::move(listener), clock));
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
  Disk* disk = &system;
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
  engine->names_.emplace(engine->data_ + "/names");
  if (const std::string lost = engine->names_->restore(*engine->spool_); !lost.empty())
    engine->problems_.set("spool: names", "the spool had lost the names of " + lost +
                                              "; they were found again in " + engine->data_ +
                                              "/names, and go on as they were");
  engine->deaths_ = std::make_unique<Deaths>(engine->data_);
  if (const auto files = engine->deaths_->files_set_apart(); !files.empty())
    engine->problems_.set(
        "set apart",
        "lines that could not go their way are in " + files.front() +
            (files.size() == 1 ? "" : " and " + std::to_string(files.size() - 1) + " more files there") +
            ", and nowhere else; remove what you do not need");
  engine->letters_ = std::make_unique<Letters>(
      engine->data_ + "/letters.sqlite",
      static_cast<std::uint64_t>(configuration->server.section("letters").number("limit")));
  const std::string damage = engine->letters_->check_file();
  if (!damage.empty()) engine->problems_.set("dead letters", damage);
  if (damage.empty()) engine->resent_at_start_ = engine->forget_resent();
  for (const auto& [key, id] : engine->spool_->state_with_prefix("destination/")) {
    if (!damage.empty()) break;  // what is missing is counted in a sound one
    const auto number = static_cast<std::uint32_t>(std::strtoul(id.c_str(), nullptr, 10));
    const auto set_aside =
        static_cast<std::uint64_t>(engine->spool_->counter(counter_of_destination(number, "set_aside")));
    if (const std::string told = engine->letters_->check(number, set_aside); !told.empty())
      engine->problems_.set("dead letters of " + key.substr(std::strlen("destination/")), told);
  }
  if (const std::string told = engine->spool_->recovery().told(); !told.empty())
    engine->problems_.set("spool: damage", told);
  engine->count_unknown();
  std::string problem;
  const auto workers = static_cast<std::size_t>(configuration->server.number("workers"));
  engine->most_in_flight_ = 2 * workers + 2;
  for (std::size_t i = 0; i < workers; ++i)
    engine->workers_.emplace_back([e = engine.get()] { e->run_worker(); });
  engine->committer_ = std::thread([e = engine.get()] { e->run_committer(); });
  bool sent = true;
  auto before = former && engine->has_orphans(*configuration) ? former("") : nullptr;
  if (before && engine->run(engine->prepare(std::move(before), &problem)))
    sent = engine->send_memories(*configuration);
  if (!problem.empty())  // is no reason not to start
    engine->problems_.set("configuration: former",
                          "the configuration that ran last cannot send what its steps hold: " + problem);
  problem.clear();
  engine->run(engine->prepare(configuration, &problem));
  if (problem.empty()) problem = engine->keep_leaving(*configuration, former);
  if (!problem.empty()) return Problem{problem, "", 0, 0};
  if (sent) engine->give_up_memories();
  engine->names_->save(*engine->spool_);
  engine->start_destinations();
  engine->start_sources();
  engine->meter_ = std::thread([e = engine.get()] { e->run_meter(); });
  engine->tables_ = std::make_unique<TableWatch>([e = engine.get()] { return e->configuration()->tables; },
                                                 engine->problems_);
  return engine;
}

Engine::~Engine() { stop(0s); }

// Where a record was damaged that said what became of events which a destination is done with.
void Engine::count_unknown() {
  if (spool_->recovery().damaged_records == 0) return;
  for (const auto& [id, w] : spool_->view().waiting) {
    std::int64_t known = 0;
    for (const char* what : {"answered", "set_aside", "damaged", "shed_oldest", "unknown"})
      known += spool_->counter(counter_of_destination(id, what));
    const auto passed = static_cast<std::int64_t>(w.appended - w.events);
    if (passed > known) spool_->count(counter_of_destination(id, "unknown"), passed - known);
  }
}

// Destinations that the configuration does not have, and for which events wait.
std::vector<std::string> Engine::abandoned(const Configuration& configuration) const {
  std::vector<std::string> names;
  for (const auto& [key, id] : spool_->state_with_prefix("destination/")) {
    const std::string name = key.substr(std::strlen("destination/"));
    {
      Lock lock(running_mutex_);
      if (const auto it = deliveries_.find(name); it != deliveries_.end() && it->second.leaving) continue;
    }
    bool taken_over = configuration.destination(name) != nullptr;
    for (const DestinationSettings& d : configuration.destinations) taken_over = taken_over || d.was == name;
    if (!taken_over &&
        spool_->waiting(static_cast<std::uint32_t>(std::strtoul(id.c_str(), nullptr, 10))).events > 0)
      names.push_back(name);
  }
  return names;
}

// A destination that is gone must not take waiting events with it.
std::string Engine::forbids(const Configuration& configuration) const {
  const std::vector<std::string> names = abandoned(configuration);
  if (names.empty()) return "";
  const std::string& name = names.front();
  const std::uint64_t waiting = spool_->waiting(spool_->destination(name)).events;
  return "the destination `" + name + "` is gone from the configuration, but " + std::to_string(waiting) +
         " events still wait for it; keep it until they are delivered, give its successor `was: " + name +
         "`, or make it `nowhere: {}` to throw them away";
}

// Resolves names to ids, which are noted; answers nullptr when that is not possible, and then nothing was.
std::shared_ptr<Engine::Running> Engine::prepare(std::shared_ptr<const Configuration> configuration,
                                                 std::string* problem) {
  if (*problem = missing_key(*configuration); !problem->empty()) return nullptr;
  auto r = std::make_shared<Running>();
  r->configuration = configuration;
  const std::shared_ptr<const Running> now = running();
  const Flow& flow = configuration->flow;
  const Identities ids(*spool_, *configuration, now ? now->configuration.get() : nullptr);
  Spool::Naming names;
  for (const DestinationSettings& d : configuration->destinations)
    names.destinations.emplace_back(
        d.name, !d.was.empty() && configuration->destination(d.was) == nullptr ? d.was : "");
  names.renamed = ids.renamed;
  for (const PipelineSettings& p : configuration->pipelines) names.pipelines.push_back(p.name);
  for (const Flow::Turnstile& t : flow.turnstiles)
    names.steps.emplace_back(flow.nodes[t.node].number, name_of(flow.step_of(t)));
  names.changes = renamed_sources(*configuration);
  // Behind this nothing refuses: before it nothing has changed.
  if (const int error = spool_->name(names)) {
    *problem = error == EBUSY ? "`was` cannot give the name `" + names.waiting +
                                    "` to another destination: events still wait for the one that has it"
                              : "the spool cannot be written, so nothing new can be given a place in it";
    return nullptr;
  }
  r->destination_ids = names.destination_ids;
  r->pipeline_ids = names.pipeline_ids;
  r->counters.emplace(*spool_, *configuration, r->pipeline_ids, r->destination_ids);
  r->ticks_unbalanced = spool_->counter_id("ticks_unbalanced");
  take_turnstiles(*r, names.step_ids);
  for (const SourceSettings& source : configuration->sources)
    for (const std::size_t node : flow.reached_from(source.name)) note_pausing(*r, node, source.name);
  return r;
}

// What goes to the destinations of the node may have to wait for those.
void Engine::note_pausing(Running& running, std::size_t node, const std::string& source) {
  for (const Flow::Output& output : running.configuration->flow.nodes[node].outputs) {
    const DestinationSettings& d = running.configuration->destinations[output.destination];
    if (d.kind->stores && d.common.section("queue").text("overflow") == "pause")
      running.pausing[source].insert(output.destination);
  }
}

void Engine::leave(const std::string& key, std::shared_ptr<void> open) {
  Lock lock(running_mutex_);
  left_[key] = std::move(open);
}

std::shared_ptr<void> Engine::take_over(const std::string& key) {
  Lock lock(running_mutex_);
  auto node = left_.extract(key);
  return node.empty() ? nullptr : std::move(node.mapped());
}

// Lets the sources hand in what they cannot read again.
void Engine::finish_sources(std::chrono::steady_clock::time_point deadline) {
  std::vector<Source*> sources;  // which stay, as nothing is reloaded meanwhile
  {
    Lock lock(running_mutex_);
    for (const auto& [name, reading] : sources_) sources.push_back(reading.source.get());
  }
  for (Source* source : sources) source->finish();
  while (std::chrono::steady_clock::now() < deadline &&
         !std::all_of(sources.begin(), sources.end(), [](const Source* s) { return s->finished(); }))
    std::this_thread::sleep_for(5ms);
}

// At the end: stops the sources and lets what they handed in reach the spool. What cannot, because the spool is full, is
// forgotten: its checkpoint was not kept either, and a start takes what steps remember from the spool.
void Engine::quiesce() {
  {
    Lock lock(mutex_);
    quiescing_ = true;
  }
  room_.notify_all();
  done_.notify_all();
  std::map<std::string, Reading> old;
  {
    Lock lock(running_mutex_);
    old.swap(sources_);
  }
  for (auto& [name, reading] : old) reading.source->stop();
  old.clear();
  Lock lock(mutex_);
  done_.wait(mutex_, [&]() REQUIRES(mutex_) { return committed_ == next_ticket_; });
}

// Lets batches in again.
void Engine::resume() {
  Lock lock(mutex_);
  quiescing_ = discarding_ = false;
}

// From now on that one. False if there is none.
bool Engine::run(std::shared_ptr<const Running> next) {
  Lock lock(running_mutex_);
  if (next) running_ = std::move(next);
  return running_ != nullptr;
}

std::uint32_t Engine::pipeline_id(const std::string& name) const {
  const std::shared_ptr<const Running> running = this->running();
  const auto& all = running->configuration->pipelines;
  for (std::size_t i = 0; i < all.size(); ++i)
    if (all[i].name == name) return running->pipeline_ids[i];
  return 0;
}

std::shared_ptr<const Engine::Running> Engine::running() const {
  Lock lock(running_mutex_);
  return running_;
}

// Whether all that destinations take now was delivered. What waits for one that is down is safe on disk.
bool Engine::drained() const {
  std::set<std::uint32_t> down;
  if (!memory_) {
    Lock lock(running_mutex_);
    for (const auto& [name, d] : deliveries_)
      if (d.thread->status().failing) down.insert(d.thread->id());
  }
  const Spool::View view = spool_->view();
  return std::all_of(view.waiting.begin(), view.waiting.end(),
                     [&](const auto& w) { return w.second.events == 0 || down.count(w.first); });
}

void Engine::stop(std::chrono::nanoseconds within) {
  ending_ = true;
  Lock reloading(reloading_);
  if (!committer_.joinable()) return;  // stopped already, or never started
  const auto deadline = std::chrono::steady_clock::now() + within;
  finish_sources(std::chrono::steady_clock::now() + within / 2);
  quiesce();
  {
    Lock lock(mutex_);
    closed_ = true;  // also for whoever waits for room, and did not come to see that
  }
  room_.notify_all();
  resume();
  Lock resending(resending_);  // it ends, since nothing is taken any more
  while (std::chrono::steady_clock::now() < deadline) {
    if (drained()) break;
    std::this_thread::sleep_for(5ms);
  }
  {
    Lock lock(mutex_);
    stopping_ = true;
  }
  work_.notify_all();
  done_.notify_all();
  {
    Lock lock(samples_mutex_);
    metering_stops_ = true;
  }
  meter_stop_.notify_all();
  if (meter_.joinable()) meter_.join();
  tables_.reset();
  for (std::thread& worker : workers_) worker.join();
  workers_.clear();
  committer_.join();
  live_.end();
  problems_.mute();
  std::map<std::string, Delivering> old;
  {
    Lock lock(running_mutex_);
    old.swap(deliveries_);
  }
  old.clear();
  save_memory();
}

// ---- the way of a batch
// ---------------------------------------------------------------------------------------------

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
    Fate fate = Fate::given_up;
    std::shared_ptr<const Running> running;
    {
      Lock lock(mutex_);
      done_.wait(mutex_, [&]() REQUIRES(mutex_) {
        return stopping_ || (!processed_.empty() && processed_.begin()->first == committed_);
      });
      if (processed_.empty() || processed_.begin()->first != committed_) return;
      append = std::move(processed_.begin()->second);
      processed_.erase(processed_.begin());
    }
    {
      Lock lock(running_mutex_);
      running = running_;
    }
    for (;;) {
      int error = 0;
      {
        Lock lock(mutex_);
        if (discarding_) break;
      }
      make_room(append, *running);
      error = spool_->append(append);
      if (error == EMSGSIZE) {  // it stays so: its lines could not be set apart, or there are none
        std::uint64_t events = 0;
        for (const auto& [id, n] : append.destinations) events += n;
        problems_.set("spool: too large",
                      "the events of one batch are more than a record of the spool can hold: " +
                          std::to_string(events) +
                          " are lost; fewer pipelines, or a shorter "
                          "`longest_line`, would help");
        for (const auto& [id, n] : append.destinations)
          append.changes.counters.push_back(
              {spool_->counter_id(counter_of_destination(id, "shed_newest")), n});
        append.destinations.clear(), append.events.clear(), append.compressed = false;
        continue;
      }
      if (error == 0) {
        fate = Fate::appended;
        paused_ = false;
        problems_.clear("spool");
        break;
      }
      problems_.set("spool",
                    std::string("cannot write the spool: ") + std::strerror(error) + "; sources are paused");
      paused_ = true;
      Lock lock(mutex_);
      done_.wait_for(mutex_, 20ms, [&]() REQUIRES(mutex_) { return quiescing_ || stopping_; });
      if (quiescing_ || stopping_) discarding_ = true;
    }
    bool ticked = false;
    {
      Lock lock(mutex_);
      ++committed_;
      if (in_flight_.front().tick) ticked = std::exchange(ticking_, false);
      in_flight_bytes_ -= in_flight_.front().bytes;
      if (in_flight_.front().fate) *in_flight_.front().fate = fate;
      in_flight_.pop_front();
    }
    room_.notify_all();
    done_.notify_all();
    if (ticked) tick_if_due();
  }
}

}  // namespace dingle
