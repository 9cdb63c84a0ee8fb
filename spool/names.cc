// The names of destinations, pipelines and steps with memory, and the ids that are kept under them.
#include <algorithm>
#include <cerrno>
#include <cstdlib>
#include <map>
#include <string>

#include "spool/spool.h"

namespace dingle {

std::string counter_of_destination(std::uint32_t id, const char* what) {
  return "destination/" + std::to_string(id) + "/" + what;
}

std::string counter_of_pipeline(std::uint32_t id, const char* what) {
  return "pipeline/" + std::to_string(id) + "/" + what;
}

namespace {

std::uint32_t number_of(const std::string& text) {
  return static_cast<std::uint32_t>(std::strtoul(text.c_str(), nullptr, 10));
}

const std::string kDestination = "destination/", kPipeline = "pipeline/", kStep = "step/";

std::string prefix_of_steps(std::uint32_t pipeline) { return kStep + std::to_string(pipeline) + "/"; }

std::string key_of(std::uint32_t pipeline, const std::string& name) {
  return pipeline == 0 ? kPipeline + name : prefix_of_steps(pipeline) + name;
}

// Names and ids as they will be, before any of it is noted.
class Ids {
 public:
  Ids(const State& state, Changes& changes) : state_(state), changes_(changes) {}
  std::uint32_t known(const std::string& key) const {
    const auto changed = now_.find(key);
    if (changed != now_.end()) return changed->second;
    const auto value = state_.value(key);
    return value ? number_of(*value) : 0;
  }
  std::uint32_t made(const std::string& key, const std::string& next_key) {
    if (const std::uint32_t id = known(key)) return id;
    const std::uint32_t next = std::max(1u, known(next_key));
    put(key, next);
    put(next_key, next + 1);
    return next;
  }
  void rename(const std::string& from, const std::string& to) {
    const std::uint32_t id = known(from);
    if (id == 0) return;
    now_[from] = 0;
    changes_.state.push_back({from, "", true});
    put(to, id);
  }

 private:
  void put(const std::string& key, std::uint32_t id) {
    now_[key] = id;
    changes_.state.push_back({key, std::to_string(id), false});
  }
  const State& state_;
  Changes& changes_;
  std::map<std::string, std::uint32_t> now_;  // 0: there is none any more
};

}  // namespace

int Spool::name(Naming& n) {
  Lock lock(mutex_);
  Changes changes = n.changes;
  Ids ids(state_, changes);
  std::vector<std::uint32_t> ended, begun;
  for (const auto& [name, former] : n.destinations) {
    if (former.empty() || ids.known(kDestination + former) == 0) continue;
    if (const std::uint32_t other = ids.known(kDestination + name)) {
      if (!queues_.empty(other)) return n.waiting = name, EBUSY;
      ended.push_back(other);
    }
    ids.rename(kDestination + former, kDestination + name);
  }
  for (const auto& [name, former] : n.destinations)
    begun.push_back(ids.made(kDestination + name, "next-destination"));
  for (const Renamed& r : n.renamed) ids.rename(key_of(r.pipeline, r.from), key_of(r.pipeline, r.to));
  std::vector<std::uint32_t> pipelines, steps;
  for (const std::string& name : n.pipelines)
    pipelines.push_back(ids.made(kPipeline + name, "next-pipeline"));
  for (const auto& [pipeline, name] : n.steps)
    steps.push_back(ids.made(key_of(pipelines[pipeline], name), "next-step"));
  if (!changes.state.empty() || !changes.counters.empty()) {
    if (const int error = write_note(changes)) return error;
    work_.notify_one();
  }
  for (const std::uint32_t id : ended) queues_.end(id);
  for (const std::uint32_t id : begun) queues_.begin(id, log_.last());
  n.destination_ids = std::move(begun);
  n.pipeline_ids = std::move(pipelines);
  n.step_ids = std::move(steps);
  return 0;
}

std::uint32_t Spool::destination(const std::string& name) {
  Naming naming;
  naming.destinations = {{name, ""}};
  return this->name(naming) == 0 ? naming.destination_ids[0] : 0;
}

std::uint32_t Spool::known(std::uint32_t pipeline, const std::string& name) const {
  Lock lock(mutex_);
  const auto value = state_.value(key_of(pipeline, name));
  return value ? number_of(*value) : 0;
}

std::optional<Spool::StepName> Spool::step_name(std::uint32_t id) const {
  Lock lock(mutex_);
  for (const auto& [key, value] : state_.with_prefix(kStep)) {
    if (number_of(value) != id) continue;
    StepName found;
    found.pipeline = number_of(key.substr(kStep.size()));
    found.step = key.substr(prefix_of_steps(found.pipeline).size());
    for (const auto& [name, pipeline] : state_.with_prefix(kPipeline))
      if (number_of(pipeline) == found.pipeline) found.pipeline_name = name.substr(kPipeline.size());
    return found;
  }
  return std::nullopt;
}

void Spool::keep_destinations(const std::vector<std::uint32_t>& ids) {
  Lock lock(mutex_);
  queues_.keep(ids);
  // A name that comes back some day is another destination.
  Changes gone;
  for (const auto& [key, value] : state_.with_prefix(kDestination))
    if (std::find(ids.begin(), ids.end(), number_of(value)) == ids.end())
      gone.state.push_back({key, "", true});
  if (!gone.state.empty()) write_note(gone);
}

}  // namespace dingle
