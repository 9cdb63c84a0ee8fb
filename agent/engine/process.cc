// What happens to a batch: its pipelines are run, and what they made is encoded for the spool. Any worker
// does it.
#include <algorithm>
#include <utility>

#include "agent/engine/engine.h"
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

std::uint64_t difference(std::uint64_t a, std::uint64_t b) { return a > b ? a - b : b - a; }

// Events that conditions let through to a destination.
struct Chosen {
  std::uint64_t events = 0, fingerprints = 0;
  void add(const Work::Output& output) {
    events += output.count;
    fingerprints += output.fingerprints;
  }
};

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

void sample_unmatched(ShapeSample& sample, const std::string& pipeline, const Work::Made& made) {
  if (made.unmatched == 0) return;
  for (const Event& e : made.batch.events) {
    if (e.failed_step == 0) continue;
    const Field* reason = e.find(names::unmatched);
    const Field* column = e.find(names::unmatched_column);
    sample.add(pipeline, {e.body, reason ? reason->value.to_string() : "",
                          column ? static_cast<std::uint64_t>(column->value.as_integer()) : 0, e.observed,
                          e.template_number != 0});
  }
}

}  // namespace

// A batch on which the program ended twice reaches no step: its lines go to a file, and are counted. False
// while they cannot be written there.
bool Engine::set_apart(const SourceBatch& batch, const Running& running, Spool::Append& out) {
  const std::string path = deaths_->set_apart(batch);
  if (path.empty()) return false;
  running.counters->source(batch.source).add(out.changes, "set_apart", batch.lines.size());
  problems_.set("source " + batch.source + ": set apart",
                "the program ended twice while it worked on " + std::to_string(batch.lines.size()) +
                    (batch.lines.size() == 1 ? " line" : " lines") + " from position " +
                    std::to_string(batch.lines.front().position) + " on; what it was is in " + path +
                    ", and nowhere else");
  return true;
}

// Runs every pipeline that the batch reaches, and encodes what they made.
Spool::Append Engine::process(const Job& job) {
  const SourceBatch& in = job.batch;
  const Running& running = *job.running;
  const Configuration& configuration = *running.configuration;
  newest_lines_.add(in);
  Spool::Append out;
  out.changes = in.changes;
  const FlowCounters& counters = *running.counters;
  const SourceCounters& source = counters.source(in.source);
  source.add(out.changes, "bytes", in.bytes);
  if (in.lines.empty()) return out;
  if (deaths_->deadly(in) && set_apart(in, running, out)) return out;
  const Deaths::Working working(in);
  const Arrived arrived{in.source,
                        in.lines,
                        in.buffer,
                        in.resource->fields,
                        in.resource->zone,
                        in.observed,
                        configuration.version};
  Work work(configuration.flow, arrived, running.again(in));
  if (live_.watched()) work.watch(&live_);
  work.advance();

  std::vector<Section> sections;
  std::vector<std::size_t> pipeline_of;    // by section
  std::map<std::uint32_t, Chosen> chosen;  // by destination
  std::uint64_t unbalanced = work.unbalanced();
  for (const Work::Made& made : work.made()) {
    if (!made.counts || made.in == 0) continue;
    const std::size_t number = configuration.flow.nodes[made.node].number;
    const std::string& name = configuration.pipelines[number].name;
    counters.count(made, number, out.changes);
    sample_unmatched(unmatched_, name, made);
    unbalanced += made.unbalanced;
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
      section.to.push_back(std::move(to));
    }
    if (section.to.empty()) continue;
    pipeline_of.push_back(number);
    sections.push_back(std::move(section));
  }
  source.add(out.changes, "leftovers", work.leftovers());
  source.add(out.changes, "left", work.left().size());
  for (const std::size_t i : work.left()) leftovers_.add(in.source, {in.lines[i].text, "", 0, in.observed});
  if (!sections.empty()) {
    const Slice slice{in.stream, in.resource->zone.name(), in.resource->fields};
    EncodedEvents encoded = encode_events(in.source, {&slice, 1}, sections);
    for (std::size_t i = 0; i < sections.size(); ++i)
      count(out.changes, counters.pipeline(pipeline_of[i]).bytes_out, encoded.section_bytes[i]);
    unbalanced += differences(chosen, encoded);
    out.events = std::move(encoded.bytes);
    out.destinations = std::move(encoded.destinations);
  }
  if (unbalanced != 0) tell_unbalanced(in, unbalanced);
  source.add(out.changes, "unbalanced", unbalanced);
  if (!out.events.empty() && configuration.server.section("spool").text("compression") == "zstd") {
    out.events = compress_events(out.events);
    out.compressed = true;
  }
  return out;
}

// It is appended all the same: what is wrong shows in the balance, and where.
void Engine::tell_unbalanced(const SourceBatch& batch, std::uint64_t by) {
  problems_.set("source " + batch.source + ": balance",
                "what became of a batch does not agree with what it held, by " + std::to_string(by) +
                    (by == 1 ? " event" : " events") + ": the lines at " +
                    std::to_string(batch.lines.front().position) + " to " +
                    std::to_string(batch.lines.back().position) +
                    " of its stream; this is a fault of the program");
}

}  // namespace dingle
