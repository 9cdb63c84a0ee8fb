// The names of destinations, pipelines and steps with memory, and the ids that are kept under them.
#include <algorithm>
#include <cerrno>
#include <cstdlib>
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

}  // namespace

std::uint32_t Spool::id(const std::string& key, const std::string& next_key) {
  const auto number = [&](const std::string& k, std::uint32_t fallback) REQUIRES(mutex_) {
    const auto value = state_.value(k);
    return value ? number_of(*value) : fallback;
  };
  if (std::uint32_t known = number(key, 0)) return known;
  const std::uint32_t next = number(next_key, 1);
  if (write_note({{{key, std::to_string(next), false}, {next_key, std::to_string(next + 1), false}}, {}}) !=
      0)
    return 0;  // else the next name got the same one
  work_.notify_one();
  return next;
}

std::uint32_t Spool::destination(const std::string& name) {
  Lock lock(mutex_);
  const std::uint32_t known = id(kDestination + name, "next-destination");
  if (known != 0) queues_.begin(known, log_.last());
  return known;
}

std::uint32_t Spool::pipeline(const std::string& name) {
  Lock lock(mutex_);
  return id(kPipeline + name, "next-pipeline");
}

std::uint32_t Spool::step(std::uint32_t pipeline, const std::string& name) {
  Lock lock(mutex_);
  return id(key_of(pipeline, name), "next-step");
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

int Spool::rename(const std::vector<Renamed>& all) {
  Changes changes;
  Lock lock(mutex_);
  for (const Renamed& r : all) {
    const auto value = state_.value(key_of(r.pipeline, r.from));
    if (!value) continue;
    changes.state.push_back({key_of(r.pipeline, r.from), "", true});
    changes.state.push_back({key_of(r.pipeline, r.to), *value, false});
  }
  return changes.state.empty() ? 0 : write_note(changes);
}

int Spool::rename_destination(const std::string& from, const std::string& to) {
  Lock lock(mutex_);
  const auto value = state_.value(kDestination + from);
  if (!value) return 0;
  if (const auto other = state_.value(kDestination + to)) {
    if (!queues_.empty(number_of(*other))) return EBUSY;
    queues_.end(number_of(*other));
  }
  return write_note({{{kDestination + from, "", true}, {kDestination + to, *value, false}}, {}});
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
