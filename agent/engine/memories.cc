// Steps with memory: their turnstiles over changes of the configuration and restarts, and the ticks by which they
// send what is due.
#include <algorithm>

#include "agent/engine/engine.h"

namespace dingle {

namespace {

// What a step with memory is known by within its pipeline.
const std::string& name_of(const Step& step) { return step.name.empty() ? step.kind : step.name; }

std::string held_counter(std::uint32_t id) { return "memory/" + std::to_string(id) + "/held"; }

std::string windows(std::uint64_t n) { return std::to_string(n) + (n == 1 ? " entry" : " entries"); }

// Whether the configuration has that step, and it means the same there.
bool continues(const Configuration& c, const Turnstile::Head& head) {
  const auto& all = c.flow.turnstiles;
  return std::any_of(all.begin(), all.end(), [&](const Flow::Turnstile& t) {
    const MemoryStep& step = c.flow.step_of(t);
    return c.pipelines[c.flow.nodes[t.node].number].name == head.pipeline && name_of(step) == head.step &&
           step.meaning() == head.meaning;
  });
}

}  // namespace

// The memories of a flow: those that go on, and new ones.
bool Engine::take_turnstiles(Running& next, std::string* problem) {
  const Flow& flow = next.configuration->flow;
  const std::shared_ptr<const Running> now = running();
  std::uint64_t ticket = 0;
  {
    Lock lock(mutex_);
    ticket = next_ticket_;
  }
  for (const Flow::Turnstile& t : flow.turnstiles) {
    const std::size_t number = flow.nodes[t.node].number;
    const std::string& pipeline = next.configuration->pipelines[number].name;
    const MemoryStep& step = flow.step_of(t);
    const std::uint32_t id = spool_->step(next.pipeline_ids[number], name_of(step));
    if (id == 0)
      return *problem = "the spool cannot be written, so nothing new can be given a place in it", false;
    std::shared_ptr<Turnstile> turnstile;
    if (now)
      for (const auto& before : now->turnstiles)
        if (before->id() == id && before->meaning() == step.meaning()) turnstile = before;
    if (!turnstile) {
      turnstile = std::make_shared<Turnstile>(id, pipeline, name_of(step), step);
      turnstile->next = ticket;
      const std::uint64_t unreadable = turnstile->recall(*spool_, step, clock_.wall());
      // What one of another meaning holds is sent with the swap.
      const bool replaces = now && std::any_of(now->turnstiles.begin(), now->turnstiles.end(),
                                               [&](const auto& before) { return before->id() == id; });
      const std::int64_t missing =
          replaces ? 0
                   : spool_->counter(held_counter(id)) - static_cast<std::int64_t>(turnstile->size().held);
      if (missing > 0) give_up(pipeline, id, missing);
      if (missing < 0)  // a damaged record said that these were folded
        spool_->note({{},
                      {{spool_->counter_id(held_counter(id)), -missing},
                       {spool_->counter_id("pipeline/" + pipeline + "/merged"), -missing}}});
      if (unreadable != 0 || missing > 0)
        problems_.set(
            "pipeline " + pipeline + ": memory",
            windows(unreadable) + " of what `" + turnstile->name() + "` remembered cannot be read; " +
                std::to_string(std::max<std::int64_t>(0, missing)) + " events are given up with that");
    }
    next.turnstiles.push_back(std::move(turnstile));
    next.held.push_back(spool_->counter_id(held_counter(id)));
    for (std::size_t node = t.node; node < flow.nodes.size(); ++node)
      if (flow.leads_to(t.node, node)) note_pausing(next, node, "");
  }
  return true;
}

// Events that were held, and that nobody has any more.
void Engine::give_up(const std::string& pipeline, std::uint32_t step, std::int64_t events, Changes changes) {
  changes.counters.push_back({spool_->counter_id(held_counter(step)), -events});
  changes.counters.push_back({spool_->counter_id("pipeline/" + pipeline + "/given_up"), events});
  spool_->note(std::move(changes));
}

void Engine::tick(Work::Tick tick, std::shared_ptr<const Running> running, std::shared_ptr<Fate> fate) {
  InFlight in_flight;
  in_flight.fate = std::move(fate);
  in_flight.tick = true;
  in_flight_.push_back(std::move(in_flight));
  queue_.push_back({next_ticket_++, {}, std::move(running), std::move(tick)});
  ticking_ = true;
  work_.notify_all();
}

void Engine::tick_if_due() {
  const std::shared_ptr<const Running> running = this->running();
  const std::int64_t now = clock_.wall();
  if (std::none_of(running->turnstiles.begin(), running->turnstiles.end(),
                   [&](const auto& t) { return t->next_due() <= now; }))
    return;
  Lock lock(mutex_);
  if (quiescing_ || stopping_ || ticking_ || paused_ || this->running() != running) return;
  if (pausing({}, *running) != nullptr) return;  // a full queue: later
  tick({}, running, nullptr);
}

// Memories that do not go on with that configuration send all that they hold, by the one that runs. With `mutex_` held. False if there
// are none.
bool Engine::close_memories(const std::shared_ptr<const Running>& running, const Configuration& next,
                            std::shared_ptr<Fate> fate) {
  Work::Tick closing{Turn::Why::everything, {}};
  for (const auto& t : running->turnstiles)
    closing.of.push_back(!continues(next, {0, t->meaning(), t->pipeline(), t->name()}));
  if (std::find(closing.of.begin(), closing.of.end(), true) == closing.of.end()) return false;
  tick(std::move(closing), running, std::move(fate));
  return true;
}

// The same at a start, waiting until it is appended. False if the disk is full: then it will be when there is room.
bool Engine::send_memories(const Configuration& next) {
  auto fate = std::make_shared<Fate>(Fate::open);
  Lock lock(mutex_);
  if (!close_memories(running(), next, fate)) return true;
  while (*fate == Fate::open && !paused_) room_.wait_for(mutex_, std::chrono::milliseconds(20));
  return *fate == Fate::appended;
}

// Whether something is remembered that the configuration has no step for.
bool Engine::has_orphans(const Configuration& configuration) const {
  const auto heads = Turnstile::all(*spool_);
  return std::any_of(heads.begin(), heads.end(),
                     [&](const auto& head) { return !continues(configuration, head.second); });
}

// At a start: what nobody could send.
void Engine::give_up_memories() {
  for (const auto& [id, head] : Turnstile::all(*spool_)) {
    if (continues(*running()->configuration, head)) continue;
    Changes changes = Turnstile::removal(*spool_, id);
    const std::uint64_t entries = changes.state.size() - 1;
    const std::int64_t held = spool_->counter(held_counter(id));
    give_up(head.pipeline, id, held, std::move(changes));
    if (held != 0)
      problems_.set("pipeline " + head.pipeline + ": given up",
                    "the step `" + head.step +
                        "` is gone or means something else since the last start, and what ran then is " +
                        "not known: " + windows(entries) + " of it, of " + std::to_string(held) +
                        " events, are given up");
  }
}

std::vector<Engine::MemoryState> Engine::memories() const {
  std::vector<MemoryState> all;
  for (const auto& t : running()->turnstiles)
    all.push_back({t->pipeline(), t->name(), held_counter(t->id()), t->size()});
  return all;
}

}  // namespace dingle
