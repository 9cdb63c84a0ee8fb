#include "core/flow/work.h"

#include <algorithm>

namespace dingle {
namespace {

// Of all that is not dropped; bytes are those of bodies and values.
struct Content {
  std::uint64_t events = 0, bytes = 0;
  explicit Content(const Batch& batch) {
    for (const Event& e : batch.events) {
      if (e.dropped_by != 0) continue;
      ++events;
      bytes += e.body.size();
      for (const Field& f : e.all())
        bytes += f.value.is_textual() ? f.value.as_text().size() : sizeof(std::int64_t);
    }
  }
};

}  // namespace

Work::Work(const Flow& flow, const Arrived& arrived, std::optional<Again> again)
    : flow_(flow), in_(arrived), again_(again), branches_(arrived.lines.size(), 0) {
  for (const std::size_t i : flow.reached_from(arrived.source)) add(i);
}

Work::Work(const Flow& flow, const Arrived& arrived, std::size_t entry, std::optional<Again> again)
    : flow_(flow), in_(arrived), again_(again), entry_(entry), branches_(arrived.lines.size(), 0) {
  for (std::size_t i = entry; i < flow.nodes.size(); ++i)
    if (flow.leads_to(entry, i)) add(i);
}

Work::Work(const Flow& flow, const Arrived& nothing, Tick tick)
    : flow_(flow), in_(nothing), tick_(std::move(tick)) {
  for (std::size_t i = 0; i < flow.nodes.size(); ++i) add(i);
}

void Work::add(std::size_t node) {
  Made& made = made_.emplace_back();
  made.node = node;
  made.counts = !again_ || (again_->node < flow_.nodes.size() && flow_.leads_to(node, again_->node));
  made.batch.buffer = in_.buffer;
  made.batch.resources = in_.resources;
  made.batch.zone = in_.zone;
  made.batch.pipeline = flow_.nodes[node].pipeline->name;
  made.batch.configuration = in_.configuration;
  if (made_.size() > 1)
    made.batch.arena.share_names(made_.front().batch.arena);  // events pass from one to another
}

std::optional<std::size_t> Work::advance() {
  if (!begun_) begin();
  for (; at_ < made_.size(); ++at_, entered_ = false) {
    Made& made = made_[at_];
    const Flow::Node& node = flow_.nodes[made.node];
    if (!entered_) enter(made);
    for (; step_ < node.pipeline->steps.size(); ++step_) {
      const Step& step = *node.pipeline->steps[step_];
      const bool any = !made.batch.events.empty();
      if (measures_ &&
          std::exchange(weighed_, {at_, step_}) != std::pair(at_, step_)) {  // not again behind its turn
        const Content content(made.batch);
        made.tallies[step_].measured += content.events;
        made.tallies[step_].bytes_in += content.bytes;
      }
      if (!step.with_memory()) {
        const std::uint64_t created = made.tallies[step_].created;
        if (any) node.pipeline->step(step_, made.batch, made.tallies[step_], present_);
        if (made.tallies[step_].created != created) tell_apart(made);
      } else if (!pass_memory(made)) {
        return waiting_;
      }
      if (measures_) made.tallies[step_].bytes_out += Content(made.batch).bytes;
      if (observer_ && made.counts && (any || step.with_memory())) observer_->stepped(node, step, made.batch);
    }
    leave(made);
  }
  if (leftovers_ != 0 && left_.empty())
    for (std::size_t i = 0; i < branches_.size(); ++i)
      if (branches_[i] == 0) left_.push_back(i);
  return std::nullopt;
}

// What is left over is known when all who name the source have looked at each line.
void Work::begin() {
  begun_ = true;
  std::uint64_t entered = 0, given = 0;
  for (Made& made : made_) {
    const Flow::Node& node = flow_.nodes[made.node];
    if (entry_ ? made.node == *entry_
               : std::find(node.sources.begin(), node.sources.end(), in_.source) != node.sources.end())
      take_lines(made, node, nullptr);
    entered += made.batch.events.size();
  }
  for (const std::uint32_t n : branches_) given += n, leftovers_ += n == 0;
  if (leftovers_ != 0) {
    taken_.resize(branches_.size());
    for (std::size_t i = 0; i < taken_.size(); ++i) taken_[i] = branches_[i] != 0;
  }
  unbalanced_ += difference(entered, given);
}

void Work::enter(Made& made) {
  entered_ = true;
  step_ = 0;
  present_.reset();
  const Flow::Node& node = flow_.nodes[made.node];
  if (node.leftovers && leftovers_ != 0 && !entry_) take_lines(made, node, &taken_);
  for (const Made& before : made_) {
    if (&before == &made) break;
    if (std::find(node.from.begin(), node.from.end(), before.node) != node.from.end())
      take_events(made, before);
  }
  if (node.hides && flow_.any_beside_hidden) note_hidden(made);
  made.in = made.batch.events.size();
  made.tallies.resize(node.pipeline->steps.size());
  for (const Event& e : made.batch.events) made.bytes_in += e.body.size();
  if (made.in != 0 && made.counts && observer_) observer_->entered(node, made.batch);
}

void Work::note_hidden(const Made& made) {
  hidden_.resize(in_.lines.size());
  std::size_t line = 0;  // events come in the order of their lines
  for (const Event& e : made.batch.events) {
    if (e.slice >= arrived_slices()) continue;
    while (line < in_.lines.size() &&
           (in_.lines[line].slice != e.slice || in_.lines[line].position != e.position))
      ++line;
    if (line < in_.lines.size()) hidden_[line] = true;
  }
}

std::vector<bool> Work::hidden_elsewhere(const Made& made) const {
  std::vector<bool> hidden;
  if (!flow_.nodes[made.node].beside_hidden) return hidden;
  hidden.resize(made.batch.events.size());
  bool any = false;
  for (std::size_t i = 0; i < hidden.size(); ++i) {
    const Event& e = made.batch.events[i];
    const auto place = [](const auto& at) { return std::pair(at.slice, at.position); };
    const auto line = std::lower_bound(in_.lines.begin(), in_.lines.end(), e,
                                       [&](const auto& l, const auto& at) { return place(l) < place(at); });
    const auto number = static_cast<std::size_t>(line - in_.lines.begin());
    hidden[i] = e.slice >= arrived_slices() ||
                (number < hidden_.size() && place(*line) == place(e) && hidden_[number]);
    any = any || hidden[i];
  }
  if (!any) hidden.clear();
  return hidden;
}

std::vector<bool> Work::altered(const Made& made) const {
  std::vector<bool> altered;
  std::size_t line = 0;  // events come in the order of their lines
  for (std::size_t i = 0; i < made.batch.events.size(); ++i) {
    const Event& e = made.batch.events[i];
    if (e.slice >= arrived_slices()) continue;
    while (line < in_.lines.size() &&
           (in_.lines[line].slice != e.slice || in_.lines[line].position != e.position))
      ++line;
    if (line == in_.lines.size()) break;
    const std::string_view text = in_.lines[line].text;
    if ((e.body.data() == text.data() && e.body.size() == text.size()) || e.body == text) continue;
    altered.resize(made.batch.events.size());
    altered[i] = true;
  }
  return altered;
}

// A step made several events of one: they stand beside each other, as one branch. The first keeps it.
void Work::tell_apart(Made& made) {
  const Event* before = nullptr;
  std::uint32_t branch = 0;  // that `before` had
  std::size_t line = 0;
  for (Event& e : made.batch.events) {
    const bool same =
        before != nullptr && e.slice == before->slice && e.position == before->position && e.branch == branch;
    branch = e.branch;
    if (same) e.branch = next_branch(e, line);
    before = &e;
  }
  present_.reset();
}

std::uint32_t Work::next_branch(const Event& e, std::size_t& line) {
  if (e.slice >= arrived_slices()) return ++branches_of_made_[{e.slice, e.position}];
  while (line < in_.lines.size() &&
         (in_.lines[line].slice != e.slice || in_.lines[line].position != e.position))
    ++line;
  return line < in_.lines.size() ? branches_[line]++ : e.branch;
}

// False: its turn has to be taken first.
bool Work::pass_memory(Made& made) {
  const Pipeline& pipeline = *flow_.nodes[made.node].pipeline;
  if (again_) {  // what was here before is not counted once more
    StepTally around;
    for (const Event& e : made.batch.events) around.passed_around += e.dropped_by == 0;
    around.in = around.out = around.passed_around;
    made.tallies[step_].add(around);
    return true;
  }
  if (waiting_) return false;
  std::size_t t = 0;
  while (flow_.turnstiles[t].node != made.node || flow_.turnstiles[t].step != step_) ++t;
  if (turned_ == t + 1) return true;
  const bool ticks = tick_ && (tick_->of.empty() || tick_->of[t]);
  if (made.batch.events.empty() && !ticks) return true;
  prepared_ = pipeline.prepare(step_, made.batch);
  waiting_ = t;
  return false;
}

void Work::turn(StepMemory& memory, Turn& turn) {
  Made& made = made_[at_];
  const std::size_t t = *std::exchange(waiting_, std::nullopt);
  turn.why = tick_ && (tick_->of.empty() || tick_->of[t]) ? tick_->why : Turn::Why::events;
  turn.slice = static_cast<std::uint16_t>(arrived_slices() + made_slices_.size());
  flow_.nodes[made.node].pipeline->turn(step_, made.batch, prepared_, memory, turn, made.tallies[step_]);
  present_.reset();
  if (prepared_.tally.created != 0) made_slices_.push_back(t);
  prepared_ = {};
  turned_ = t + 1;
}

// The lines that the node's conditions let in: all, or those that were not `taken`.
void Work::take_lines(Made& made, const Flow::Node& node, const std::vector<bool>* taken) {
  Batch& batch = made.batch;
  batch.events.reserve(in_.lines.size());
  for (std::size_t i = 0; i < in_.lines.size(); ++i) {
    if (taken && (*taken)[i]) continue;
    Event& event = batch.events.emplace_back();
    event.body = in_.lines[i].text;
    event.position = in_.lines[i].position;
    event.slice = in_.lines[i].slice;
    event.timestamp = event.observed = in_.observed_each.empty() ? in_.observed : in_.observed_each[i];
    if (node.pipeline->takes(LineHeader::Reader(in_.header, batch, event)))
      event.branch = branches_[i]++;
    else
      batch.events.pop_back();
  }
}

// The finished events of another node. Their fields are shared until one changes them.
void Work::take_events(Made& made, const Made& before) {
  const Pipeline& pipeline = *flow_.nodes[made.node].pipeline;
  std::vector<Event>& events = made.batch.events;
  const bool mixed = !events.empty();
  std::size_t line = 0;  // events come in the order of their lines
  for (const Event& e : before.batch.events) {
    const bool arrived = e.slice < arrived_slices();
    const auto is_its = [&](const SourceLine& l) { return l.slice == e.slice && l.position == e.position; };
    while (arrived && line < in_.lines.size() && !is_its(in_.lines[line])) ++line;
    if (!pipeline.takes(EventReader(before.batch, e))) continue;
    Event& event = events.emplace_back(e);
    event.share();
    event.failed_step = event.dropped_by = 0;
    if (!arrived)
      event.branch = ++branches_of_made_[{e.slice, e.position}];
    else if (line < in_.lines.size())
      event.branch = branches_[line]++;
  }
  if (mixed)
    std::stable_sort(events.begin(), events.end(), [](const Event& a, const Event& b) {
      return std::pair(a.slice, a.position) < std::pair(b.slice, b.position);
    });
}

void Work::leave(Made& made) {
  Batch& batch = made.batch;
  for (const StepTally& tally : made.tallies) {
    made.created += tally.created;
    made.merged += tally.merged;
    made.unbalanced += tally.unbalanced;
  }
  if (made.idle()) return;
  const Flow::Node& node = flow_.nodes[made.node];
  const Pipeline::Finished finished = node.pipeline->finish(batch);
  if (observer_ && made.counts) observer_->finished(node, batch);
  made.unmatched = finished.unmatched;
  if (finished.dropped != 0)
    made.dropped = static_cast<std::uint64_t>(
        std::erase_if(batch.events, [](const Event& e) { return e.dropped_by != 0; }));
  made.unbalanced += difference(made.in + made.created, batch.events.size() + made.dropped + made.merged);
  route(made, node);
}

void Work::route(Made& made, const Flow::Node& node) {
  const Batch& batch = made.batch;
  std::vector<bool> routed(batch.events.size(), node.feeds);
  for (const Flow::Output& output : node.outputs) {
    if (again_ && (made.node != again_->node || output.destination != again_->destination)) continue;
    Output to;
    to.destination = output.destination;
    if (!again_ && !output.where) {  // all of them
      to.count = batch.events.size();
      for (const Event& e : batch.events) to.fingerprints += fingerprint(e);
      routed.assign(routed.size(), true);
      if (to.count != 0) made.outputs.push_back(std::move(to));
      continue;
    }
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
