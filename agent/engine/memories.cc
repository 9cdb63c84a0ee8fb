// Steps with memory: their turnstiles over changes of the configuration and restarts, and the ticks by which they
// send what is due.
#include <algorithm>

#include "agent/engine/engine.h"

namespace dingle {

namespace {

std::string held_counter(std::uint32_t id) { return "memory/" + std::to_string(id) + "/held"; }

std::string windows(std::uint64_t n) { return std::to_string(n) + (n == 1 ? " entry" : " entries"); }

// Whether the configuration has that step, and it means the same there.
bool continues(const Configuration& c, const Identities& ids, std::uint32_t id, const std::string& meaning) {
  for (std::size_t t = 0; t < ids.steps.size(); ++t)
    if (ids.steps[t] == id) return c.flow.step_of(c.flow.turnstiles[t]).meaning() == meaning;
  return false;
}

}  // namespace

// The memories of a flow: those that go on, and new ones. `steps`: their ids, by turnstile.
void Engine::take_turnstiles(Running& next, const std::vector<std::uint32_t>& steps) {
  const Flow& flow = next.configuration->flow;
  const std::shared_ptr<const Running> now = running();
  std::uint64_t ticket = 0;
  {
    Lock lock(mutex_);
    ticket = next_ticket_;
  }
  for (std::size_t i = 0; i < flow.turnstiles.size(); ++i) {
    const Flow::Turnstile& t = flow.turnstiles[i];
    const std::size_t number = flow.nodes[t.node].number;
    const std::uint32_t pipeline = next.pipeline_ids[number];
    const MemoryStep& step = flow.step_of(t);
    const std::uint32_t id = steps[i];
    std::shared_ptr<Turnstile> turnstile;
    std::shared_ptr<const Turnstile> former;
    for (const auto& before : now ? now->turnstiles : std::vector<std::shared_ptr<Turnstile>>{})
      if (before->id() == id && before->meaning() == step.meaning())
        turnstile = before;
      else if (before->id() == id)
        former = before;
    if (!turnstile) {
      turnstile = std::make_shared<Turnstile>(id, step, former);
      turnstile->open_at(ticket);
      const auto recalled = turnstile->recall(*spool_, step, clock_.wall());
      // What one of another meaning holds is sent with the swap, or given up at the end of the start.
      const std::uint64_t unreadable = former ? 0 : recalled.value_or(0);
      const std::int64_t missing =
          former || !recalled
              ? 0
              : spool_->counter(held_counter(id)) - static_cast<std::int64_t>(turnstile->size().held);
      std::uint64_t entries = 0;
      if (unreadable != 0 && turnstile->size().entries == 0)  // with them went what says what they are
        give_up(pipeline, id, std::max<std::int64_t>(0, missing), Turnstile::removal(*spool_, id, entries));
      else if (missing > 0)
        give_up(pipeline, id, missing);
      if (missing < 0)  // a damaged record said that these were folded
        spool_->note({{},
                      {{spool_->counter_id(held_counter(id)), -missing},
                       {spool_->counter_id(counter_of_pipeline(pipeline, "merged")), -missing}}});
      if (unreadable != 0 || missing > 0)
        problems_.set("pipeline " + next.configuration->pipelines[number].name + ": memory",
                      windows(unreadable) + " of what `" + name_of(step) + "` remembered cannot be read; " +
                          std::to_string(std::max<std::int64_t>(0, missing)) +
                          " events are given up with that");
    }
    turnstile->show(step);
    next.turnstiles.push_back(std::move(turnstile));
    next.held.push_back(spool_->counter_id(held_counter(id)));
    for (std::size_t node = t.node; node < flow.nodes.size(); ++node)
      if (flow.leads_to(t.node, node)) note_pausing(next, node, "");
  }
}

std::vector<std::unique_ptr<StepMemory>> Engine::copies_of_memories(const Configuration& of) const {
  const std::shared_ptr<const Running> now = running();
  const Configuration& c = *now->configuration;
  std::vector<std::unique_ptr<StepMemory>> all;
  for (const Flow::Turnstile& wanted : of.flow.turnstiles) {
    const MemoryStep& step = of.flow.step_of(wanted);
    std::unique_ptr<StepMemory>& copy = all.emplace_back();
    for (std::size_t t = 0; t < c.flow.turnstiles.size(); ++t) {
      const Flow::Turnstile& there = c.flow.turnstiles[t];
      if (c.flow.nodes[there.node].pipeline->name != of.flow.nodes[wanted.node].pipeline->name ||
          name_of(c.flow.step_of(there)) != name_of(step) || now->turnstiles[t]->meaning() != step.meaning())
        continue;
      Turnstile of_state(now->turnstiles[t]->id(), step, nullptr);
      of_state.recall(*spool_, step, clock_.wall());
      copy = of_state.give();
    }
  }
  return all;
}

// Events that were held, and that nobody has any more.
void Engine::give_up(std::uint32_t pipeline, std::uint32_t step, std::int64_t events, Changes changes) {
  changes.counters.push_back({spool_->counter_id(held_counter(step)), -events});
  changes.counters.push_back({spool_->counter_id(counter_of_pipeline(pipeline, "given_up")), events});
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
  const Identities ids(*spool_, next, running->configuration.get());
  for (const auto& t : running->turnstiles)
    closing.of.push_back(!continues(next, ids, t->id(), t->meaning()));
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
  const Identities ids(*spool_, configuration, nullptr);
  return std::any_of(heads.begin(), heads.end(), [&](const auto& head) {
    return !continues(configuration, ids, head.first, head.second.meaning);
  });
}

// At a start: what nobody could send.
void Engine::give_up_memories() {
  const auto running = this->running();
  const Identities ids(*spool_, *running->configuration, running->configuration.get());
  for (const auto& [id, head] : Turnstile::all(*spool_)) {
    if (continues(*running->configuration, ids, id, head.meaning)) continue;
    std::uint64_t entries = 0;
    Changes changes = Turnstile::removal(*spool_, id, entries);
    const std::int64_t held = spool_->counter(held_counter(id));
    const Spool::StepName known = spool_->step_name(id).value_or(Spool::StepName());
    give_up(known.pipeline, id, held, std::move(changes));
    if (held != 0)
      problems_.set("pipeline " + known.pipeline_name + ": given up",
                    "the step `" + known.step +
                        "` is gone or means something else since the last start, and what ran then is " +
                        "not known: " + windows(entries) + " of it, of " + std::to_string(held) +
                        " events, are given up");
  }
}

Engine::Flowing Engine::flowing() const {
  const auto running = this->running();
  Flowing now{running->configuration, running->pipeline_ids, {}};
  const Flow& flow = running->configuration->flow;
  for (std::size_t i = 0; i < flow.turnstiles.size(); ++i) {
    const Turnstile& t = *running->turnstiles[i];
    now.memories.push_back({flow.nodes[flow.turnstiles[i].node].number,
                            name_of(flow.step_of(flow.turnstiles[i])), held_counter(t.id()), t.size()});
  }
  return now;
}

}  // namespace dingle
