// Changes of the configuration, by what differs: what stops, what begins, and the swap between.
#include <algorithm>
#include <utility>

#include "agent/engine/engine.h"
#include "agent/secret.h"

namespace dingle {

using namespace std::chrono_literals;

namespace {

// A destination goes on over a reload while this stays the same: its options, and the secrets that they name.
std::string written(const DestinationSettings& d) {
  return d.written + std::to_string(fingerprint_of_secrets(d.options));
}

// A source goes on over a reload while this stays the same.
std::string written(const SourceSettings& s) {
  return s.written + std::to_string(fingerprint_of_secrets(s.options));
}

}  // namespace

// Those that changed begin anew, those that are gone end; one for which events came meanwhile goes on until it is empty.
void Engine::start_destinations() {
  std::shared_ptr<const Running> running = this->running();
  std::vector<std::uint32_t> ids;
  std::map<std::string, Delivering> old;
  {
    Lock lock(running_mutex_);
    for (auto it = deliveries_.begin(); it != deliveries_.end();) {
      const DestinationSettings* d = running->configuration->destination(it->first);
      const std::uint64_t waiting = spool_->waiting(it->second.thread->id()).events;
      const bool renamed = std::any_of(
          running->configuration->destinations.begin(), running->configuration->destinations.end(),
          [&](const auto& other) { return running->id_of(other) == it->second.thread->id(); });
      if (d == nullptr && !renamed && waiting != 0) {
        ids.push_back(it->second.thread->id());
        mark_leaving(it->second, it->first);
        ++it;
      } else if (d && written(*d) == it->second.written && !it->second.leaving) {
        ++it;
      } else {
        if (it->second.leaving) problems_.clear("destination " + it->first + ": leaving");
        old.insert(deliveries_.extract(it++));
      }
    }
  }
  old.clear();  // joins their threads
  for (const DestinationSettings& d : running->configuration->destinations) {
    const std::uint32_t id = running->id_of(d);
    ids.push_back(id);
    {
      Lock lock(running_mutex_);
      if (deliveries_.count(d.name)) continue;
    }
    Delivering delivering{
        written(d), d.kind->spec.name,
        std::make_unique<DeliveryThread>(d, id, d.kind->make({d, id, spool_->identity(), data_}), *spool_,
                                         *letters_, problems_, [this] { return holder(); }),
        running->configuration};
    Lock lock(running_mutex_);
    deliveries_[d.name] = std::move(delivering);
  }
  spool_->keep_destinations(ids);
}

void Engine::mark_leaving(Delivering& delivering, const std::string& name) {
  delivering.leaving = true;
  const std::uint64_t waiting = spool_->waiting(delivering.thread->id()).events;
  problems_.set("destination " + name + ": leaving",
                "it is not in the configuration any more, but " + std::to_string(waiting) +
                    (waiting == 1 ? " event waits" : " events wait") +
                    " for it; it goes on as it was until they are delivered (`nowhere: {}` by that name "
                    "would throw them away)");
}

// At a start: destinations that went while the program was down go on as they were, until they are empty.
std::string Engine::keep_leaving(const Configuration& configuration, const Former& former) {
  for (const std::string& name : abandoned(configuration)) {
    const auto then = former ? former(name) : nullptr;
    const DestinationSettings* d = then ? then->destination(name) : nullptr;
    if (d == nullptr) return forbids(configuration);
    const std::uint32_t id = spool_->destination(name);
    Delivering delivering{
        written(*d), d->kind->spec.name,
        std::make_unique<DeliveryThread>(*d, id, d->kind->make({*d, id, spool_->identity(), data_}), *spool_,
                                         *letters_, problems_, [this] { return holder(); }),
        then};
    mark_leaving(delivering, name);
    Lock lock(running_mutex_);
    deliveries_[name] = std::move(delivering);
  }
  return "";
}

// Destinations that left the configuration and are empty now end.
void Engine::end_leaving() {
  std::vector<Delivering> done;
  std::vector<std::uint32_t> ids;
  if (!reloading_.try_lock()) return;
  {
    Lock lock(running_mutex_);
    for (auto it = deliveries_.begin(); it != deliveries_.end();) {
      if (!it->second.leaving || spool_->waiting(it->second.thread->id()).events != 0) {
        ids.push_back(it++->second.thread->id());
        continue;
      }
      problems_.clear("destination " + it->first + ": leaving");
      done.push_back(std::move(deliveries_.extract(it++).mapped()));
    }
    if (!done.empty()) spool_->keep_destinations(ids);
  }
  reloading_.unlock();
}

// Steps are counted since their configuration began.
void Engine::forget_old_steps() {
  spool_->forget_counters("step/", "step/" + running()->configuration->version + "/");
}

// What a source has read, its keys and counters are kept by its name: what changes where a source has another one. Nobody
// hands in anything by its former name any more.
Changes Engine::renamed_sources(const Configuration& next) {
  Changes changes;
  for (const SourceSettings& s : next.sources) {
    if (s.was.empty()) continue;
    for (const std::string kind : {"file/", "request/"}) {
      const std::string prefix = kind + s.was + "/";
      for (const auto& [key, value] : spool_->state_with_prefix(prefix)) {
        changes.state.push_back({key, "", true});
        changes.state.push_back({kind + s.name + key.substr(prefix.size() - 1), value, false});
      }
    }
    const std::string prefix = "source/" + s.was + "/";
    for (const auto& [name, value] : spool_->view().counters)
      if (name.starts_with(prefix) && value != 0) {
        changes.counters.push_back({spool_->counter_id(name), -value});
        changes.counters.push_back(
            {spool_->counter_id("source/" + s.name + name.substr(prefix.size() - 1)), value});
      }
  }
  return changes;
}

// Open connections, too.
void Engine::rename_left() {
  const std::shared_ptr<const Running> running = this->running();
  Lock lock(running_mutex_);
  for (const SourceSettings& s : running->configuration->sources) {
    if (s.was.empty()) continue;
    const std::string left = std::string(s.kind->spec.name) + "/" + s.was + "/";
    for (auto it = left_.lower_bound(left); it != left_.end() && it->first.starts_with(left);) {
      auto node = left_.extract(it++);
      node.key() = std::string(s.kind->spec.name) + "/" + s.name + node.key().substr(left.size() - 1);
      left_.insert(std::move(node));
    }
  }
}

// Those that do not run.
void Engine::start_sources() {
  forget_old_steps();
  rename_left();
  const std::shared_ptr<const Running> running = this->running();
  for (const SourceSettings& settings : running->configuration->sources) {
    {
      Lock lock(running_mutex_);
      if (sources_.count(settings.name)) continue;
    }
    // Not with the lock: those that go on need it for each batch.
    Reading reading{written(settings), running->configuration, settings.kind->make({settings, *this})};
    reading.source->start();
    Lock lock(running_mutex_);
    sources_[settings.name] = std::move(reading);
  }
  std::map<std::string, std::shared_ptr<void>> left;  // what nobody took ends without the lock
  Lock lock(running_mutex_);
  left.swap(left_);
}

// Stops the sources that the configuration does not have, or has with other options, and waits until what they handed in is
// appended. The others go on.
void Engine::let_sources_go(const Configuration& next) {
  std::map<std::string, std::string> then;  // secrets are read, which may take long
  for (const SourceSettings& s : next.sources) then[s.name] = written(s);
  std::map<std::string, Reading> old;
  {
    Lock lock(mutex_);
    Lock running_lock(running_mutex_);
    for (auto it = sources_.begin(); it != sources_.end();) {
      const auto same = then.find(it->first);
      if (same != then.end() && same->second == it->second.written) {
        ++it;
        continue;
      }
      letting_go_.insert(it->first);
      old.insert(sources_.extract(it++));
    }
  }
  room_.notify_all();
  for (auto& [name, reading] : old) reading.source->stop();
  Lock lock(mutex_);
  const auto in_flight = [&]() REQUIRES(mutex_) {
    return std::any_of(in_flight_.begin(), in_flight_.end(),
                       [&](const InFlight& b) { return old.count(b.source) != 0; });
  };
  while (in_flight() && !ending_) room_.wait_for(mutex_, 20ms);
  letting_go_.clear();
  lock.unlock();
  for (const auto& [name, reading] : old) {
    problems_.clear("source " + name);
    problems_.clear_with_prefix("source " + name + ":");
  }
}

std::string Engine::reload(std::shared_ptr<const Configuration> configuration) {
  Lock reloading(reloading_);
  if (ending_) return "the program is stopping";
  for (const char* option : {"data", "listen", "hosts", "tls", "workers", "spool", "letters"})
    if (!configuration->server.same(option, running()->configuration->server))
      return std::string("`server.") + option + "` cannot change while the program runs: restart it for that";
  if (paused_) return "the spool cannot be written, and what changes must be noted there; give it room first";
  if (std::string problem = forbids(*configuration); !problem.empty()) return problem;
  let_sources_go(*configuration);
  // What came until now may be for a destination that goes: only now is it known whether it all left.
  std::string problem;
  std::uint64_t ticket = 0;
  {
    Lock swapping(swapping_);
    problem = ending_ ? "the program is stopping" : forbids(*configuration);
    if (problem.empty())
      if (auto next = prepare(std::move(configuration), &problem)) ticket = swap(std::move(next));
  }
  if (problem.empty()) {
    Lock lock(mutex_);
    while (committed_ < ticket && !ending_) room_.wait_for(mutex_, 20ms);
    if (committed_ < ticket) return "the program is stopping";
  }
  if (problem.empty()) {
    names_->save(*spool_);
    start_destinations();
    unmatched_.forget();
    leftovers_.forget();
  }
  start_sources();
  return problem;
}

// The swap is an entry in the order of tickets: what has one already is worked on by the configuration that was there. Memories that
// do not go on send what they hold, by that one too. Answers the first ticket behind it.
std::uint64_t Engine::swap(std::shared_ptr<Running> next) {
  Lock lock(mutex_);
  const std::shared_ptr<const Running> before = running();
  close_memories(before, *next->configuration, nullptr);
  for (const auto& t : next->turnstiles)
    if (std::find(before->turnstiles.begin(), before->turnstiles.end(), t) == before->turnstiles.end())
      t->open_at(next_ticket_);
  run(std::move(next));
  return next_ticket_;
}

}  // namespace dingle
