#include "agent/rehearsal/rehearsal.h"

#include <algorithm>
#include <unordered_map>

#include "agent/namer.h"
#include "agent/sources/line_splitter.h"

namespace dingle {

namespace {

constexpr std::size_t kMostResources = 60'000;  // some are left for what steps make
constexpr std::size_t kAtOnce = 1000;           // lines

// What a failure leaves in its event is told as its reason.
bool says_failure(FieldId field) { return field == names::unmatched || field == names::unmatched_column; }

}  // namespace

// Compares each event with what it was before the step.
class Rehearsal::Observer final : public FlowObserver {
 public:
  Observer(Rehearsal& rehearsal, bool at_end) : rehearsal_(rehearsal), at_end_(at_end) {}

  void entered(const Flow::Node& node, const Batch& batch) override {
    OfPipeline* of = find(node);
    if (of == nullptr) return;
    of->in += batch.events.size();
    for (const Event& e : batch.events) {
      of->bytes_in += e.body.size();
      open(node, *of, e, 0);
    }
  }

  void stepped(const Flow::Node& node, const Step& step, const Batch& batch) override {
    rehearsal_.go_on(batch.arena.bytes());
    OfPipeline* of = find(node);
    if (of == nullptr) return;
    auto& known = open_[&node];
    ++round_;
    for (const Event& e : batch.events) {
      const auto found = known.find(key_of(e));
      if (found == known.end()) {
        open(node, *of, e, step.number);
        continue;
      }
      found->second.seen = round_;
      note(*of, found->second, step, batch, e);
    }
    for (auto it = known.begin(); it != known.end();) {
      if (it->second.seen == round_) {
        ++it;
        continue;
      }
      Traced& traced = of->events[it->second.index];  // taken away, for another that is to come
      traced.outcome = Outcome::merged;
      traced.ended_by = step.number;
      it = known.erase(it);
    }
  }

  void finished(const Flow::Node& node, const Batch& batch) override {
    for (OfPipeline& behind : rehearsal_.pipelines_)
      if (takes_from(*behind.node, node)) note_not_taken(behind, batch);
    OfPipeline* of = find(node);
    if (of == nullptr) return;
    for (const Event& e : batch.events) {
      const auto found = open_[&node].find(key_of(e));
      if (found == open_[&node].end()) continue;
      Traced& traced = of->events[found->second.index];
      traced.body = e.body;
      traced.timestamp = e.timestamp;
      traced.observed = e.observed;
      traced.fields.assign(e.all().begin(), e.all().end());
      if (e.dropped_by != 0) {
        traced.outcome = Outcome::dropped;
        traced.ended_by = e.dropped_by;
      } else if (e.failed_step != 0) {
        traced.outcome = Outcome::failed;
        traced.ended_by = e.failed_step;
      }
      if (const Field* why = e.find(names::unmatched)) traced.reason = why->value.to_string();
      if (const Field* column = e.find(names::unmatched_column))
        traced.column = static_cast<std::uint64_t>(column->value.as_integer());
    }
  }

  // Where its events went, once all is done.
  void routed(const Work::Made& made) {
    const Configuration& c = rehearsal_.configuration();
    const Flow::Node& node = c.flow.nodes[made.node];
    OfPipeline* of = find(node);
    if (of == nullptr || made.idle()) return;
    for (std::size_t s = 0; s < made.tallies.size(); ++s) of->steps[s].tally.add(made.tallies[s]);
    const auto& known = open_[&node];
    for (std::size_t i = 0; i < made.batch.events.size(); ++i) {
      const Event& e = made.batch.events[i];
      const auto found = known.find(key_of(e));
      if (found == known.end()) continue;
      Traced& traced = of->events[found->second.index];
      for (const Work::Output& output : made.outputs) {
        if (!output.takes.empty() && !output.takes[i]) continue;
        const auto& namer = c.destinations[output.destination].namer;
        bool implausible = false;
        traced.to.emplace_back(output.destination, namer ? namer->name(made.batch, e, &implausible) : "");
      }
      if (traced.to.empty() && !node.feeds && traced.outcome == Outcome::goes_on)
        traced.outcome = Outcome::unrouted;
    }
  }

 private:
  // Of an event within one node of a flow, and one run of it.
  struct Key {
    std::uint64_t position = 0;
    std::uint32_t branch = 0;
    std::uint16_t slice = 0;
    bool operator==(const Key&) const = default;
  };
  struct KeyHash {
    std::size_t operator()(const Key& k) const { return fingerprint(k.position, k.branch) ^ k.slice; }
  };
  static Key key_of(const Event& e) { return {e.position, e.branch, e.slice}; }

  // An event as it was behind the last step.
  struct Moment {
    Event event;  // its fields are those below
    std::vector<Field> fields;
    explicit Moment(const Event& e) : event(e), fields(e.all().begin(), e.all().end()) {}
    Moment(Moment&&) = default;
    Moment& operator=(Moment&&) = default;
    const Event& view() {
      event.fields = fields.data();
      event.field_count = static_cast<std::uint16_t>(fields.size());
      event.share();
      return event;
    }
  };

  struct Open {
    std::size_t index = 0;  // in the pipeline's events
    std::uint64_t seen = 0;
    Moment before;
  };

  OfPipeline* find(const Flow::Node& node) {
    for (OfPipeline& p : rehearsal_.pipelines_)
      if (p.node == &node) return &p;
    return nullptr;
  }
  bool takes_from(const Flow::Node& node, const Flow::Node& before) const {
    const auto& nodes = rehearsal_.configuration().flow.nodes;
    return std::any_of(node.from.begin(), node.from.end(),
                       [&](std::size_t f) { return &nodes[f] == &before; });
  }
  std::size_t line_of(const Event& e) const {
    if (at_end_ || e.slice >= rehearsal_.resources_.size()) return kNone;
    const auto& lines = rehearsal_.lines_;
    const auto it = std::lower_bound(lines.begin(), lines.end(), e.position,
                                     [](const SourceLine& l, std::uint64_t p) { return l.position < p; });
    return it != lines.end() && it->position == e.position ? static_cast<std::size_t>(it - lines.begin())
                                                           : kNone;
  }
  void note_not_taken(OfPipeline& of, const Batch& batch) {
    const Pipeline& p = *of.node->pipeline;
    for (const Event& e : batch.events) {
      if (e.dropped_by != 0) continue;
      const std::size_t line = line_of(e);
      const EventReader reader(batch, e);
      if (line == kNone || p.takes(reader)) continue;
      of.not_taken.push_back({line, p.where && !p.where->holds(reader) ? "where" : "unless"});
    }
  }

  void open(const Flow::Node& node, OfPipeline& of, const Event& e, std::uint16_t made_by) {
    Traced traced;
    traced.line = line_of(e);
    traced.made_by = made_by;
    traced.at_end = at_end_;
    open_[&node].insert_or_assign(key_of(e), Open{of.events.size(), round_, Moment(e)});
    of.events.push_back(std::move(traced));
  }

  // The place of a text in its line.
  std::optional<Span> span_of(const Traced& traced, std::string_view text) const {
    if (traced.line == kNone || text.empty()) return {};
    const std::string_view line = rehearsal_.line(traced.line);
    if (text.data() < line.data() || text.data() + text.size() > line.data() + line.size()) return {};
    return Span{static_cast<std::size_t>(text.data() - line.data()), text.size()};
  }

  void note(OfPipeline& of, Open& open, const Step& step, const Batch& batch, const Event& now) {
    const Event& before = open.before.view();
    if (before.dropped_by != 0) return;
    Traced& traced = of.events[open.index];
    Done done;
    done.step = step.number;
    done.passed_by = !step.off && !step.takes(batch, before);
    done.failed = before.failed_step == 0 && now.failed_step == step.number;
    for (const Field& f : now.all()) {
      const Field* was = before.find(f.name);
      if (!says_failure(f.name) && (was == nullptr || !(was->value == f.value)))
        done.changes.push_back({f.name, was ? was->value : Value(), f.value, {}});
    }
    for (const Field& f : before.all())
      if (now.find(f.name) == nullptr) done.changes.push_back({f.name, f.value, {}, {}});
    if (before.body.data() != now.body.data() || before.body.size() != now.body.size())
      done.changes.push_back({names::body, Value::text(before.body), Value::text(now.body), {}});
    if (before.timestamp != now.timestamp)
      done.changes.push_back(
          {names::timestamp, Value::timestamp(before.timestamp), Value::timestamp(now.timestamp), {}});
    place(traced, done, step, batch, before);
    count(of.steps[step.number - 1u], done);
    const bool dropped = now.dropped_by != 0;
    if (!done.changes.empty() || done.failed || done.passed_by || dropped)
      traced.steps.push_back(std::move(done));
    open.before = Moment(now);
  }

  // A value stands where it was captured, where its own text is, or where the same value stood under a name that is gone.
  void place(Traced& traced, Done& done, const Step& step, const Batch& batch, const Event& before) {
    const auto captured = done.changes.empty() ? std::vector<Step::Captured>() : step.captured(batch, before);
    const auto former = traced.spans;
    for (Change& c : done.changes) {
      if (c.after.absent()) {
        traced.spans.erase(c.field);
        if (const auto it = former.find(c.field); it != former.end()) c.span = it->second;
        continue;
      }
      const auto taken = std::find_if(captured.begin(), captured.end(), [&](const Step::Captured& t) {
        return t.field == field_name(c.field);
      });
      if (taken != captured.end()) c.span = span_of(traced, taken->text);
      if (!c.span && c.after.is_textual()) c.span = span_of(traced, c.after.as_text());
      for (const Change& gone : done.changes)
        if (const auto it = former.find(gone.field);
            !c.span && gone.after.absent() && it != former.end() &&
            (gone.before == c.after ||
             (c.field == names::timestamp && gone.before.kind() == Kind::timestamp)))
          c.span = it->second;
      if (c.span)
        traced.spans[c.field] = *c.span;
      else
        traced.spans.erase(c.field);
    }
  }

  static void count(OfStep& of, const Done& done) {
    of.changed += !done.changes.empty();
    for (const Change& c : done.changes) {
      if (!c.before.absent() || c.after.absent()) continue;
      auto it = std::find_if(of.fields.begin(), of.fields.end(), [&](const OfStep::Made& m) {
        return field_name(m.field) == field_name(c.field);
      });
      if (it == of.fields.end()) it = of.fields.insert(it, {c.field, 0, {}});
      ++it->events;
      ++it->kinds[kind_name(c.after.kind())];
    }
  }

  Rehearsal& rehearsal_;
  const bool at_end_;
  std::uint64_t round_ = 0;
  std::map<const Flow::Node*, std::unordered_map<Key, Open, KeyHash>> open_;
};

Rehearsal::Rehearsal(Asked asked) : asked_(std::move(asked)) {
  const Configuration& c = asked_.configuration;
  const std::vector<std::size_t>& reached = c.flow.reached_from(asked_.source);
  for (std::size_t i = 0; i < c.flow.nodes.size(); ++i) {
    const Flow::Node& node = c.flow.nodes[i];
    if (!asked_.pipeline.empty() && node.pipeline->name != asked_.pipeline) continue;
    OfPipeline& p = pipelines_.emplace_back();
    p.node = &node;
    p.steps.resize(node.pipeline->steps.size());
    if (std::find(reached.begin(), reached.end(), i) == reached.end())
      p.unreached = "it takes nothing that comes from `" + asked_.source + "`";
  }
  const SourceSettings* settings = c.source(asked_.source);
  auto fixed = std::make_shared<Resource>();
  if (settings != nullptr)
    for (const auto& [field, text] : settings->resource) fixed->add(field, text);
  std::size_t bytes = 0;
  for (const SampleLine& l : asked_.lines) bytes += l.text.size() + 1;
  buffer_ = std::make_shared<LineBuffer>(bytes + LineBuffer::kPadding);
  std::size_t at = 0;
  for (const SampleLine& l : asked_.lines) {
    auto resource = l.resource ? l.resource : fixed;
    if (kept_.empty() || (kept_.back() != resource && kept_.size() < kMostResources))
      kept_.push_back(std::move(resource));
    std::copy(l.text.begin(), l.text.end(), buffer_->bytes.get() + at);
    lines_.push_back(
        {{buffer_->bytes.get() + at, l.text.size()}, at, static_cast<std::uint16_t>(kept_.size() - 1)});
    at += l.text.size();
    buffer_->bytes[at++] = '\n';
  }
  buffer_->finish(at);
  for (const auto& resource : kept_) resources_.emplace_back(resource->fields);
  arrived_ = {asked_.source,
              lines_,
              buffer_,
              resources_,
              settings ? settings->zone : Zone(),
              asked_.now,
              c.version,
              settings ? settings->header() : nullptr};
  nothing_.configuration = c.version;
  std::vector<std::unique_ptr<StepMemory>> memories;
  for (std::size_t t = 0; t < c.flow.turnstiles.size(); ++t) {
    const MemoryStep& step = c.flow.step_of(c.flow.turnstiles[t]);
    memories.push_back(t < asked_.memories.size() && asked_.memories[t] ? std::move(asked_.memories[t])
                                                                        : step.begin());
    if (step.fills() != nullptr && step.fills()->now() == nullptr)
      step.show(*memories.back());  // it does not run
  }
  for (std::size_t from = 0; from == 0 || from < lines_.size(); from += kAtOnce) {
    Arrived& part = parts_.emplace_back(arrived_);
    part.lines = std::span(lines_).subspan(from, std::min(kAtOnce, lines_.size() - from));
    Work& work = of_lines_.emplace_back(c.flow, part);
    Observer of_part(*this, false);
    run(work, memories, of_part);
    for (const Work::Made& made : work.made()) made_ += made.batch.arena.bytes();
    leftovers_ += work.left().size();
  }
  note_not_taken();
  if (memories.empty()) return;
  of_end_.emplace(c.flow, nothing_, Work::Tick{Turn::Why::everything});
  Observer of_end(*this, true);
  run(*of_end_, memories, of_end);
}

void Rehearsal::go_on(std::size_t made) const {
  if (made_ + made > kMostMade) throw Ended("the steps made more than 512 MiB of these lines");
  if (const std::string why = asked_.ends ? asked_.ends() : ""; !why.empty()) throw Ended(why);
}

void Rehearsal::run(Work& work, std::vector<std::unique_ptr<StepMemory>>& memories, Observer& observer) {
  work.watch(&observer);
  work.measure();
  while (const auto t = work.advance()) {
    Turn turn;
    turn.now = asked_.now;
    work.turn(*memories[*t], turn);
  }
  for (const Work::Made& made : work.made()) observer.routed(made);
}

// The lines that a pipeline which names their source does not take.
void Rehearsal::note_not_taken() {
  Batch batch;
  batch.buffer = buffer_;
  batch.resources = resources_;
  batch.zone = arrived_.zone;
  batch.configuration = arrived_.configuration;
  for (OfPipeline& of : pipelines_) {
    const auto& sources = of.node->sources;
    const bool named = std::find(sources.begin(), sources.end(), asked_.source) != sources.end();
    if (!of.unreached.empty() || (!named && !of.node->leftovers)) continue;
    std::vector<bool> taken(lines_.size(), false);
    for (const Traced& e : of.events)
      if (e.line != kNone && e.made_by == 0) taken[e.line] = true;
    batch.pipeline = of.node->pipeline->name;
    for (std::size_t i = 0; i < lines_.size(); ++i) {
      if (taken[i]) continue;
      Event event;
      event.body = lines_[i].text;
      event.position = lines_[i].position;
      event.slice = lines_[i].slice;
      event.timestamp = event.observed = asked_.now;
      const Pipeline& p = *of.node->pipeline;
      const LineHeader::Reader reader(arrived_.header, batch, event);
      of.not_taken.push_back({i, p.where && !p.where->holds(reader)    ? "where"
                                 : p.unless && p.unless->holds(reader) ? "unless"
                                                                       : "taken by others"});
    }
  }
}

std::uint64_t Rehearsal::OfPipeline::count(Outcome outcome) const {
  return static_cast<std::uint64_t>(
      std::count_if(events.begin(), events.end(), [&](const Traced& t) { return t.outcome == outcome; }));
}

const char* name_of(Rehearsal::Outcome outcome) {
  switch (outcome) {
    case Rehearsal::Outcome::failed: return "failed";
    case Rehearsal::Outcome::dropped: return "dropped";
    case Rehearsal::Outcome::merged: return "merged";
    case Rehearsal::Outcome::unrouted: return "unrouted";
    case Rehearsal::Outcome::goes_on: break;
  }
  return "goes_on";
}

std::vector<SampleLine> lines_of_text(const Configuration& configuration, std::string_view source,
                                      std::string_view text) {
  const SourceSettings* settings = configuration.source(source);
  const SplitSettings* how = settings && settings->prepared ? settings->prepared->split() : nullptr;
  std::vector<SampleLine> lines;
  for (const SourceLine& line : split(text, how ? *how : SplitSettings(), false, true).events)
    lines.push_back({std::string(line.text)});
  return lines;
}

std::string source_for(const Configuration& configuration, std::string_view pipeline) {
  const auto& nodes = configuration.flow.nodes;
  for (std::size_t i = 0; i < nodes.size(); ++i) {
    if (nodes[i].pipeline->name != pipeline) continue;
    if (!nodes[i].sources.empty()) return nodes[i].sources.front();
    for (const SourceSettings& s : configuration.sources) {
      const auto& reached = configuration.flow.reached_from(s.name);
      if (std::find(reached.begin(), reached.end(), i) != reached.end()) return s.name;
    }
  }
  return "";
}

}  // namespace dingle
