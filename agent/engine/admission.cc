// What is let in, and what is shed, when queues are full.
//
// A source waits before it is given a ticket: so one that feeds a full queue holds up no other. Shedding is
// decided when the batch is appended, by what it holds for each destination.
#include <algorithm>
#include <chrono>

#include "agent/engine/engine.h"

namespace dingle {

using namespace std::chrono_literals;

namespace {
constexpr auto kLookAgain = 20ms;  // whether a full queue has room

std::uint64_t queue_limit(const Configuration& configuration, const DestinationSettings& d) {
  return static_cast<std::uint64_t>(std::min(configuration.server.section("spool").number("limit"),
                                             d.common.section("queue").number("limit")));
}
}  // namespace

// The destination that pauses the source of the batch, or null. What is in flight counts as if it went there.
const DestinationSettings* Engine::pausing(const SourceBatch& batch, const Running& running) const {
  if (batch.entry.pipeline != 0) return pausing_import(batch.entry.pipeline, running);
  auto found = running.pausing.find(batch.source);
  if (found == running.pausing.end()) return nullptr;
  for (const std::size_t index : found->second) {
    const DestinationSettings& d = running.configuration->destinations[index];
    const std::uint32_t id = running.destination_ids[index];
    if (batch.only_destination != 0 && batch.only_destination != id) continue;
    const std::uint64_t waiting = spool_->waiting(id).bytes, most = queue_limit(*running.configuration, d);
    if (waiting > most || (in_flight_bytes_ != 0 && waiting + in_flight_bytes_ > most)) return &d;
  }
  return nullptr;
}

// What comes live goes first: so an import waits much sooner, and whatever else would be done about a full queue.
const DestinationSettings* Engine::pausing_import(std::uint32_t pipeline, const Running& running) const {
  const Flow& flow = running.configuration->flow;
  const std::optional<std::size_t> entry = running.node_of(pipeline);
  for (std::size_t n = entry.value_or(flow.nodes.size()); n < flow.nodes.size(); ++n) {
    if (!flow.leads_to(*entry, n)) continue;
    for (const Flow::Output& output : flow.nodes[n].outputs) {
      const DestinationSettings& d = running.configuration->destinations[output.destination];
      if (!d.kind->stores) continue;
      const std::uint64_t waiting = spool_->waiting(running.destination_ids[output.destination]).bytes,
                          most = queue_limit(*running.configuration, d) / 4;
      if (waiting > most || (in_flight_bytes_ != 0 && waiting + in_flight_bytes_ > most)) return &d;
    }
  }
  return nullptr;
}

std::string Engine::keeps_import_waiting(std::uint32_t pipeline) {
  Lock lock(mutex_);
  const std::shared_ptr<const Running> running = this->running();
  const DestinationSettings* full = pausing_import(pipeline, *running);
  return full == nullptr ? "" : full->name;
}

std::optional<Intake::Taken> Engine::hand_in(SourceBatch batch, std::chrono::nanoseconds patience) {
  Lock lock(mutex_);
  return admit(std::move(batch), std::chrono::steady_clock::now() + patience, nullptr);
}

bool Engine::submit(SourceBatch batch) {
  Lock lock(mutex_);
  return !admit(std::move(batch), {}, nullptr);
}

Intake::Taken Engine::submit_durably(SourceBatch batch, std::chrono::nanoseconds patience,
                                     std::chrono::nanoseconds for_disk) {
  const auto begin = std::chrono::steady_clock::now();
  auto fate = std::make_shared<Fate>(Fate::open);
  {
    Lock lock(mutex_);
    if (const auto refused = admit(std::move(batch), begin + patience, fate)) return *refused;
    // Longer than both only where the disk is full, or the program held up: then the caller learns that nobody knows.
    const bool known =
        room_.wait_for(mutex_, patience + for_disk, [&]() REQUIRES(mutex_) { return *fate != Fate::open; });
    if (!known) return Taken::unknown;
    if (*fate == Fate::given_up) return Taken::stopping;
  }
  for (const auto until = std::chrono::steady_clock::now() + for_disk;
       std::chrono::steady_clock::now() < until;) {
    if (spool_->wait_durable(kLookAgain)) return Taken::durable;
  }
  return Taken::unknown;
}

// Gives the batch a ticket, or answers why not. Waits for room, until that time if one is given.
std::optional<Intake::Taken> Engine::admit(SourceBatch batch,
                                           std::optional<std::chrono::steady_clock::time_point> until,
                                           std::shared_ptr<Fate> fate) {
  const std::uint64_t bytes = batch.buffer ? batch.buffer->size : 0;
  const bool imports = batch.entry.pipeline != 0;
  const std::string source = imports ? "" : batch.source;  // that waits; an import tells it itself
  std::shared_ptr<const Running> running;
  for (;;) {
    if (quiescing_ || closed_ || stopping_ || letting_go_.count(source) != 0) {
      paused_sources_.erase(source);
      return Taken::stopping;
    }
    if (until && std::chrono::steady_clock::now() >= *until) {
      paused_sources_.erase(source);
      return Taken::no_room;
    }
    {
      Lock running_lock(running_mutex_);
      running = running_;
    }
    if (!running->counters->has_source(batch.source) || (imports && !running->node_of(batch.entry.pipeline)))
      return Taken::stopping;
    if (next_ticket_ - committed_ >= most_in_flight_) {
      if (until)
        room_.wait_for(mutex_, *until - std::chrono::steady_clock::now());
      else
        room_.wait(mutex_);
    } else if (const DestinationSettings* full = pausing(batch, *running)) {
      paused_sources_[source] = full->name;
      room_.wait_for(mutex_, kLookAgain);
    } else {
      break;
    }
  }
  paused_sources_.erase(source);
  in_flight_.push_back({batch.source, bytes, batch.bytes, std::move(fate)});
  in_flight_bytes_ += bytes;
  queue_.push_back({next_ticket_++, std::move(batch), std::move(running)});
  work_.notify_one();
  return std::nullopt;
}

// Sheds what the queues that the append goes to have no room for.
void Engine::make_room(Spool::Append& append, const Running& running) {
  const std::uint64_t size = append.events.size();
  std::vector<std::uint32_t> shed;
  for (const DestinationSettings& d : running.configuration->destinations) {
    const std::uint32_t id = running.id_of(d);
    if (std::none_of(append.destinations.begin(), append.destinations.end(),
                     [&](const auto& to) { return to.first == id; }))
      continue;
    const Options& queue = d.common.section("queue");
    const std::uint64_t most = queue_limit(*running.configuration, d);
    const std::string& overflow = queue.text("overflow");
    if (overflow == "pause") continue;  // it was let in (submit)
    const std::uint64_t waiting = spool_->waiting(id).bytes;
    if (waiting + size > most && overflow == "shed_oldest") {
      spool_->shed_oldest(id, most - std::min(most, size), 0, counter_of_destination(id, "shed_oldest"));
    } else if (waiting + size > most) {
      shed.push_back(id);
    }
  }
  // The newest are given up: they were never queued.
  std::erase_if(append.destinations, [&](const auto& to) {
    if (std::find(shed.begin(), shed.end(), to.first) == shed.end()) return false;
    append.changes.counters.push_back(
        {spool_->counter_id(counter_of_destination(to.first, "shed_newest")), to.second});
    return true;
  });
  if (append.destinations.empty()) append.events.clear(), append.compressed = false;
}

}  // namespace dingle
