// What happens to a batch: its pipelines are run, and what they made is encoded for the spool. Any worker
// does it.
#include <xxhash.h>

#include <algorithm>
#include <utility>

#include "agent/configuration_hiding.h"
#include "agent/engine/engine.h"
#include "core/template/template.h"
#include "spool/events.h"

namespace dingle {
namespace {

// The index names of a section's events for one destination.
std::uint64_t name_events(const Namer& namer, const Batch& batch, Section::To& to) {
  std::uint64_t implausible_times = 0;
  std::map<std::string, std::uint32_t> known;
  std::int64_t last_day = 0;
  std::uint32_t last = 0;
  bool have_last = false;
  for (std::size_t i = 0; i < batch.events.size(); ++i) {
    const Event& event = batch.events[i];
    bool implausible = false;
    if (!to.takes.empty() && !to.takes[i]) {
      to.name_of.push_back(0);
      continue;
    }
    if (namer.by_day_alone()) {
      const std::int64_t day = namer.day(event, &implausible);
      if (have_last && day == last_day) {
        implausible_times += implausible;
        to.name_of.push_back(last);
        continue;
      }
      last_day = day;
      have_last = true;
    }
    auto [it, added] = known.try_emplace(namer.name(batch, event, &implausible),
                                         static_cast<std::uint32_t>(to.names.size()));
    if (added) to.names.push_back(it->first);
    last = it->second;
    implausible_times += implausible;
    to.name_of.push_back(last);
  }
  return implausible_times;
}

constexpr unsigned kMeasured = 16;  // of so many batches the bytes at steps are measured once

// How many events the batch's source says that it holds.
std::uint64_t counted_events(const SourceBatch& batch, CounterId events) {
  std::int64_t n = 0;
  for (const CounterChange& c : batch.changes.counters)
    if (c.id == events) n += c.change;
  return static_cast<std::uint64_t>(n);
}

// Events that conditions let through to a destination.
struct Chosen {
  std::uint64_t events = 0, fingerprints = 0;
  void add(const Work::Output& output) {
    events += output.count;
    fingerprints += output.fingerprints;
  }
};

// Bytes of events that one batch may become.
std::uint64_t most_in_record(const Configuration& configuration) {
  return std::clamp<std::uint64_t>(
      static_cast<std::uint64_t>(configuration.server.section("spool").number("limit")), 16u << 20,
      kLargestPayload - (16u << 20));  // with room for what else stands in a record
}

// By how many events what was encoded is not what was chosen; at least 1 if it is not the same ones.
std::uint64_t differences(std::map<std::uint32_t, Chosen> chosen, const EncodedEvents& encoded) {
  std::uint64_t by = 0;
  for (std::size_t i = 0; i < encoded.destinations.size(); ++i) {
    const auto [id, events] = encoded.destinations[i];
    const Chosen expected = std::exchange(chosen[id], {});
    const std::uint64_t count = difference(expected.events, events);
    by += count != 0 ? count : expected.fingerprints != encoded.fingerprints[i];
  }
  for (const auto& [id, missing] : chosen) by += missing.events;
  return by;
}

// Finding out a line's shape costs more than matching it: of many, every so many-th stands for those up to the next.
// `hides`: the pipeline does, and the text is a shape of the line, in which the line's columns mean nothing.
void sample_unmatched(ShapeSample& sample, const std::string& pipeline, bool hides, const Work::Made& made) {
  constexpr std::uint64_t kMostOfBatch = 64;
  const std::uint64_t step = 1 + made.unmatched / kMostOfBatch;
  std::uint64_t n = 0;
  for (const Event& e : made.batch.events) {
    if (e.failed_step == 0 || n++ % step != 0) continue;
    const Field* reason = e.find(names::unmatched);
    const Field* column = e.find(names::unmatched_column);
    const std::uint64_t at = column && !hides ? static_cast<std::uint64_t>(column->value.as_integer()) : 0;
    const std::string why = reason ? reason->value.to_string() : "";
    sample.add(
        pipeline,
        {e.body, at != 0 ? mismatch_sentence(e.body, at, why) : why, at, e.observed, e.template_number != 0},
        std::min(step, made.unmatched - (n - 1)));
  }
}

// "position 512 of /var/log/skerry/gate.log"
std::string place_of(const SourceBatch& batch, const SourceLine& line) {
  static const FieldId path = field_id("log.file.path");
  std::string place = "position " + std::to_string(line.position);
  for (const Field& f : batch.slices[line.slice].resource->fields)
    if (f.name == path) place += " of " + f.value.to_string();
  return place;
}

}  // namespace

// The lines of a batch that cannot go its way go to a file, and are counted. False if they cannot be written there.
bool Engine::set_apart(const SourceBatch& batch, const Running& running, Spool::Append& out,
                       const char* why) {
  const bool hidden = is_hidden(*running.configuration, batch.source);
  const std::string path = deaths_->set_apart(batch, hidden);
  if (path.empty()) return false;
  running.counters->source(batch.source).add(out.changes, "set_apart", batch.lines.size());
  problems_.set("source " + batch.source + ": set apart",
                std::to_string(batch.lines.size()) + (batch.lines.size() == 1 ? " line" : " lines") +
                    " from " + place_of(batch, batch.lines.front()) + " on: " + why +
                    (hidden ? "; their places are in " + path +
                                  ", and they are nowhere, since a pipeline hides what they hold"
                            : "; they are in " + path + ", and nowhere else"));
  return true;
}

// What becomes of one job: its pipelines, up to where it has to wait for its turn.
struct Engine::Processing {
  SourceBatch batch;                              // here it stays where it is
  std::vector<std::span<const Field>> resources;  // of its slices
  Arrived arrived;
  std::optional<Work> work;  // none for a batch that is not worked on
  bool took_turns = false;   // what it left in memories stands in `out`
  Spool::Append out;
};

void Engine::begin(Job& job) {
  const Running& running = *job.running;
  const Configuration& configuration = *running.configuration;
  job.doing = std::make_shared<Processing>();
  Processing& p = *job.doing;
  p.batch = std::move(job.batch);
  const SourceBatch& in = p.batch;
  p.arrived.configuration = configuration.version;
  if (job.tick) {
    p.work.emplace(configuration.flow, p.arrived, *job.tick);
  } else {
    newest_lines_.add(in);
    p.out.changes = in.changes;
    running.counters->source(in.source).add(p.out.changes, "bytes", in.bytes);
    if (in.lines.empty()) return;
    if (deaths_->deadly(in) &&
        set_apart(in, running, p.out, "the program ended twice while it worked on these"))
      return;
    for (const SourceSlice& slice : in.slices) p.resources.emplace_back(slice.resource->fields);
    const SourceSettings* source = configuration.source(in.source);
    p.arrived = {in.source,
                 in.lines,
                 in.buffer,
                 p.resources,
                 in.slices.front().resource->zone,
                 in.observed,
                 configuration.version,
                 source != nullptr ? source->header() : nullptr};
    if (in.entry.pipeline != 0)
      p.work.emplace(configuration.flow, p.arrived, *running.node_of(in.entry.pipeline));
    else
      p.work.emplace(configuration.flow, p.arrived, running.again(in));
  }
  if (live_.watched()) p.work->watch(&live_);
  if (job.ticket % kMeasured == 0 && in.only_pipeline == 0) p.work->measure();
}

// Works on until it needs a turn, or to the end.
void Engine::go_on(Job& job) {
  if (!job.doing) begin(job);
  Processing& p = *job.doing;
  job.wants = std::nullopt;
  if (!p.work) return;
  const Deaths::Working working(job.doing->batch);
  try {
    job.wants = p.work->advance();
    if (!job.wants) encode(job);
  } catch (const std::exception& error) {
    // As with lines on which the program ends; where memories have it already, or there are no lines, it does end.
    Spool::Append apart;
    apart.changes = p.batch.changes;
    job.running->counters->source(p.batch.source).add(apart.changes, "bytes", p.batch.bytes);
    if (job.tick || p.took_turns || p.batch.lines.empty() ||
        !set_apart(p.batch, *job.running, apart, (std::string("steps failed: ") + error.what()).c_str()))
      throw;
    job.wants = std::nullopt;
    p.work.reset();
    p.out = std::move(apart);
  }
}

void Engine::take_turn(Job& job) {
  const Deaths::Working working(job.doing->batch);
  job.doing->took_turns = true;
  job.running->turnstiles[*job.wants]->turn(*job.doing->work, clock_.wall(), job.running->held[*job.wants],
                                            job.doing->out.changes);
}

// What its pipelines made, for the spool.
void Engine::encode(Job& job) {
  const SourceBatch& in = job.doing->batch;
  const Running& running = *job.running;
  const Configuration& configuration = *running.configuration;
  const FlowCounters& counters = *running.counters;
  Work& work = *job.doing->work;
  Spool::Append& out = job.doing->out;
  std::vector<Section> sections;
  std::vector<std::size_t> pipeline_of;    // by section
  std::map<std::uint32_t, Chosen> chosen;  // by destination
  std::uint64_t unbalanced = work.unbalanced();
  for (const Work::Made& made : work.made()) {
    if (!made.counts) continue;
    const std::size_t number = configuration.flow.nodes[made.node].number;
    const std::string& name = configuration.pipelines[number].name;
    counters.count(made, number, out.changes);
    if (made.idle()) continue;
    sample_unmatched(unmatched_, name, configuration.flow.nodes[made.node].hides, made);
    unbalanced += made.unbalanced;
    if (in.entry.pipeline != 0) {
      count(out.changes, in.entry.unmatched, made.unmatched);
      count(out.changes, in.entry.dropped, made.dropped);
    }
    Section section{running.pipeline_ids[number], name, configuration.version, {}, &made.batch};
    for (const Work::Output& output : made.outputs) {
      const DestinationSettings& d = configuration.destinations[output.destination];
      Section::To to{running.destination_ids[output.destination], {}, {}, output.takes};
      if (!d.kind->stores) {
        count(out.changes, counters.thrown_away(output.destination), output.count);
        continue;
      }
      if (d.namer)
        count(out.changes, counters.pipeline(number).implausible_times,
              name_events(*d.namer, made.batch, to));
      chosen[to.destination].add(output);
      if (in.entry.pipeline != 0) count(out.changes, in.entry.made, output.count);
      section.to.push_back(std::move(to));
    }
    if (section.to.empty()) continue;
    section.hidden_elsewhere = work.hidden_elsewhere(made);
    section.altered = work.altered(made);
    pipeline_of.push_back(number);
    sections.push_back(std::move(section));
  }
  if (!sections.empty()) {
    std::vector<Slice> slices;
    for (const SourceSlice& slice : in.slices)
      slices.push_back({slice.stream, in.source, slice.resource->zone.name(), slice.resource->fields});
    if (job.tick) slices.emplace_back();
    for (const std::size_t turnstile : work.made_slices())
      slices.push_back({stream_of(running.turnstiles[turnstile]->id()), "", "", {}});
    EncodedEvents encoded = encode_events(slices, sections);
    for (std::size_t i = 0; i < sections.size(); ++i)
      count(out.changes, counters.pipeline(pipeline_of[i]).bytes_out, encoded.section_bytes[i]);
    unbalanced += differences(chosen, encoded);
    if (encoded.bytes.size() <= most_in_record(configuration) || job.tick ||
        !set_apart(in, running, out,
                   "what pipelines make of these is more than a record of the spool may hold")) {
      for (std::size_t i = 0; i < encoded.destinations.size(); ++i)
        count(out.changes, counters.bytes_in(encoded.destinations[i].first), encoded.bytes_for[i]);
      out.events = std::move(encoded.bytes);
      out.destinations = std::move(encoded.destinations);
    }
  }
  if (job.tick) {
    if (unbalanced != 0) count(out.changes, running.ticks_unbalanced, unbalanced);
  } else {
    const SourceCounters& source = counters.source(in.source);
    if (in.only_pipeline == 0)  // what is sent again was counted when it came
      unbalanced += difference(counted_events(in, source.id("events")), in.lines.size());
    source.add(out.changes, "leftovers", work.leftovers());
    source.add(out.changes, "left", work.left().size());
    if (in.entry.pipeline != 0) count(out.changes, in.entry.left, work.left().size());
    for (const std::size_t i : work.left()) leftovers_.add(in.source, {in.lines[i].text, "", 0, in.observed});
    source.add(out.changes, "unbalanced", unbalanced);
    if (unbalanced != 0) tell_unbalanced(in, unbalanced);
  }
  if (!out.events.empty() && configuration.server.section("spool").text("compression") == "zstd") {
    out.events = compress_events(out.events);
    out.compressed = true;
  }
}

// Of the events that a step with memory makes: they come from nowhere, and have an order of their own.
std::uint64_t Engine::stream_of(std::uint32_t step) const {
  const std::uint64_t key[] = {spool_->identity().spool_id, step};
  return XXH3_64bits(key, sizeof key);
}

// Whether a job is at a turnstile that is open for it, or needs none any more.
bool Engine::may_pass(const Job& job) const {
  return job.passed == job.running->turnstiles.size() ||
         job.running->turnstiles[job.passed]->is_open(job.ticket);
}

void Engine::run_worker() {
  const Deaths::Worker worker;
  for (;;) {
    Lock lock(mutex_);
    auto parked = parked_.end();
    work_.wait(mutex_, [&]() REQUIRES(mutex_) {
      parked =
          std::find_if(parked_.begin(), parked_.end(), [&](const auto& p) { return may_pass(p.second); });
      return stopping_ || parked != parked_.end() || !queue_.empty();
    });
    if (parked != parked_.end()) {
      Job job = std::move(parked->second);
      parked_.erase(parked);
      carry_on(std::move(job));
    } else if (!queue_.empty()) {
      Job job = std::move(queue_.front());
      queue_.pop_front();
      mutex_.unlock();
      go_on(job);
      mutex_.lock();
      carry_on(std::move(job));
    } else {
      return;
    }
  }
}

// Takes a job, which has done what it can without a further turn, through the turnstiles that are open for it: to the
// committer, or to where it has to wait. Every job passes every turnstile, in the order of tickets.
void Engine::carry_on(Job job) {
  const auto& turnstiles = job.running->turnstiles;
  for (; job.passed < turnstiles.size(); ++job.passed, work_.notify_all()) {
    if (!may_pass(job)) {
      const std::uint64_t ticket = job.ticket;
      parked_.emplace(ticket, std::move(job));
      return;
    }
    turnstiles[job.passed]->enter();
    const bool turns = job.passed == job.stop();
    if (turns) {
      mutex_.unlock();
      take_turn(job);
      mutex_.lock();
    }
    turnstiles[job.passed]->leave();
    if (turns) {  // others may go on meanwhile
      work_.notify_all();
      mutex_.unlock();
      go_on(job);
      mutex_.lock();
    }
  }
  processed_.emplace(job.ticket, std::move(job.doing->out));
  done_.notify_all();
}

// It is appended all the same: what is wrong shows in the balance, and where.
void Engine::tell_unbalanced(const SourceBatch& batch, std::uint64_t by) {
  problems_.set("source " + batch.source + ": balance",
                "what became of a batch does not agree with what it held, by " + std::to_string(by) +
                    (by == 1 ? " event" : " events") + ": the lines from " +
                    place_of(batch, batch.lines.front()) + " to " + place_of(batch, batch.lines.back()) +
                    "; this is a fault of the program");
}

}  // namespace dingle
