#include "core/flow/work.h"

#include <algorithm>

namespace dingle {
namespace {

std::uint64_t difference(std::uint64_t a, std::uint64_t b) { return a > b ? a - b : b - a; }

}  // namespace

Work::Work(const Flow& flow, const Arrived& arrived, std::optional<Again> again)
    : flow_(flow), in_(arrived), again_(again), branches_(arrived.lines.size(), 0) {
  for (const std::size_t i : flow.reached_from(arrived.source)) {
    Made& made = made_.emplace_back();
    made.node = i;
    made.counts = !again || (again->node < flow.nodes.size() && flow.leads_to(i, again->node));
    made.batch.buffer = arrived.buffer;
    made.batch.resource = arrived.resource;
    made.batch.zone = arrived.zone;
    made.batch.pipeline = flow.nodes[i].pipeline->name;
    made.batch.configuration = arrived.configuration;
    if (made_.size() > 1)
      made.batch.arena.share_names(made_.front().batch.arena);  // events pass from one to another
  }
}

void Work::advance() {
  // What is left over is known when all who name the source have looked at each line.
  std::uint64_t entered = 0, given = 0;
  for (Made& made : made_) {
    const Flow::Node& node = flow_.nodes[made.node];
    if (std::find(node.sources.begin(), node.sources.end(), in_.source) != node.sources.end())
      take_lines(made, node, nullptr);
    entered += made.batch.events.size();
  }
  std::vector<bool> taken(in_.lines.size());
  for (std::size_t i = 0; i < taken.size(); ++i) taken[i] = branches_[i] != 0, given += branches_[i];
  leftovers_ = static_cast<std::uint64_t>(std::count(taken.begin(), taken.end(), false));
  unbalanced_ += difference(entered, given);
  for (Made& made : made_) {
    const Flow::Node& node = flow_.nodes[made.node];
    if (node.leftovers && leftovers_ != 0) take_lines(made, node, &taken);
    for (const Made& before : made_) {
      if (&before == &made) break;
      if (std::find(node.from.begin(), node.from.end(), before.node) != node.from.end())
        take_events(made, before);
    }
    run(made, node);
  }
  for (std::size_t i = 0; i < taken.size(); ++i)
    if (branches_[i] == 0) left_.push_back(i);
}

// The lines that the node's conditions let in: all, or those that were not `taken`.
void Work::take_lines(Made& made, const Flow::Node& node, const std::vector<bool>* taken) {
  Batch& batch = made.batch;
  batch.events.reserve(in_.lines.size());
  for (std::size_t i = 0; i < in_.lines.size(); ++i) {
    if (taken && (*taken)[i]) continue;
    Event event;
    event.body = in_.lines[i].text;
    event.position = in_.lines[i].position;
    event.timestamp = event.observed = in_.observed;
    if (!node.pipeline->takes(EventReader(batch, event))) continue;
    event.branch = branches_[i]++;
    batch.events.push_back(event);
  }
}

// The finished events of another node. Their fields are shared until one changes them.
void Work::take_events(Made& made, const Made& before) {
  const Pipeline& pipeline = *flow_.nodes[made.node].pipeline;
  std::vector<Event>& events = made.batch.events;
  const bool mixed = !events.empty();
  std::size_t line = 0;  // events come in the order of their lines
  for (const Event& e : before.batch.events) {
    while (line < in_.lines.size() && in_.lines[line].position != e.position) ++line;
    if (!pipeline.takes(EventReader(before.batch, e))) continue;
    Event& event = events.emplace_back(e);
    event.share();
    event.failed_step = event.dropped_by = 0;
    if (line < in_.lines.size()) event.branch = branches_[line]++;
  }
  if (mixed)
    std::stable_sort(events.begin(), events.end(),
                     [](const Event& a, const Event& b) { return a.position < b.position; });
}

void Work::run(Made& made, const Flow::Node& node) {
  Batch& batch = made.batch;
  made.in = batch.events.size();
  if (made.in == 0) return;
  for (const Event& e : batch.events) made.bytes_in += e.body.size();
  FlowObserver* const observer = made.counts ? observer_ : nullptr;
  if (observer) observer->entered(node, batch);
  const Pipeline& pipeline = *node.pipeline;
  made.tallies.resize(pipeline.steps.size());
  std::uint64_t created = 0, merged = 0;
  for (std::size_t i = 0; i < pipeline.steps.size(); ++i) {
    StepTally& tally = made.tallies[i];
    pipeline.step(i, batch, tally);
    created += tally.created;
    merged += tally.merged;
    made.unbalanced += tally.unbalanced;
    if (observer) observer->stepped(node, *pipeline.steps[i], batch);
  }
  pipeline.finish(batch);
  if (observer) observer->finished(node, batch);
  made.dropped = static_cast<std::uint64_t>(
      std::erase_if(batch.events, [](const Event& e) { return e.dropped_by != 0; }));
  made.unbalanced += difference(made.in + created, batch.events.size() + made.dropped + merged);
  for (const Event& e : batch.events) made.unmatched += e.failed_step != 0;
  route(made, node);
}

void Work::route(Made& made, const Flow::Node& node) {
  const Batch& batch = made.batch;
  std::vector<bool> routed(batch.events.size(), node.feeds);
  for (const Flow::Output& output : node.outputs) {
    if (again_ && (made.node != again_->node || output.destination != again_->destination)) continue;
    Output to;
    to.destination = output.destination;
    const bool known = again_ && std::any_of(batch.events.begin(), batch.events.end(),
                                             [&](const Event& e) { return e.branch == again_->branch; });
    for (std::size_t i = 0; i < batch.events.size(); ++i) {
      const Event& e = batch.events[i];
      // What is sent again was for that destination once.
      const bool takes = again_ ? !known || e.branch == again_->branch
                                : !output.where || output.where->holds(EventReader(batch, e));
      to.takes.push_back(takes);
      to.count += takes;
      if (takes) to.fingerprints += fingerprint(e);
      if (takes) routed[i] = true;
    }
    if (to.count == 0) continue;
    if (to.count == to.takes.size()) to.takes.clear();
    made.outputs.push_back(std::move(to));
  }
  if (again_) return;
  made.unrouted = static_cast<std::uint64_t>(std::count(routed.begin(), routed.end(), false));
  if (made.unrouted != 0 && observer_) observer_->unrouted(node, batch, routed);
}

}  // namespace dingle
