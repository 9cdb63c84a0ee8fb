// What happens to a batch: its pipelines are run, and what they made is encoded for the spool. Any worker
// does it.
#include <algorithm>
#include <utility>

#include "agent/engine/engine.h"
#include "spool/events.h"

namespace dingle {
namespace {

void count(Changes& changes, std::string name, std::uint64_t n) {
  if (n != 0) changes.counters.push_back({std::move(name), static_cast<std::int64_t>(n)});
}

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

void count_steps(Changes& changes, const std::string& prefix, const std::string& steps,
                 const Work::Made& made) {
  for (std::size_t s = 0; s < made.tallies.size(); ++s) {
    const StepTally& t = made.tallies[s];
    const std::string step = steps + std::to_string(s) + "/";
    count(changes, step + "in", t.in);
    count(changes, step + "out", t.out);
    count(changes, step + "dropped", t.dropped);
    count(changes, step + "failed", t.failed);
    count(changes, prefix + "fields_left_out", t.fields_left_out);
    count(changes, prefix + "values_as_text", t.values_as_text);
    for (std::size_t m = 0; m < t.matched.size(); ++m)
      count(changes, step + "template/" + std::to_string(m + 1), t.matched[m]);
    for (std::size_t m = 0; m < t.expensive.size(); ++m)
      count(changes, step + "too_expensive/" + std::to_string(m + 1), t.expensive[m]);
    count(changes, step + "nanoseconds", t.nanoseconds);
  }
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
bool Engine::set_apart(const SourceBatch& batch, Spool::Append& out) {
  const std::string path = deaths_->set_apart(batch);
  if (path.empty()) return false;
  count(out.changes, "source/" + batch.source + "/set_apart", batch.lines.size());
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
  const std::string source = "source/" + in.source + "/";
  count(out.changes, source + "bytes", in.bytes);
  if (in.lines.empty()) return out;
  if (deaths_->deadly(in) && set_apart(in, out)) return out;
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
  std::vector<std::size_t> section_of;  // by what was made; for its bytes
  std::map<std::uint32_t, std::uint64_t> events_for;
  std::uint64_t unbalanced = work.unbalanced();
  for (const Work::Made& made : work.made()) {
    section_of.push_back(SIZE_MAX);
    if (!made.counts || made.in == 0) continue;
    const std::size_t number = configuration.flow.nodes[made.node].number;
    const std::string& name = configuration.pipelines[number].name;
    const std::string prefix = "pipeline/" + name + "/";
    count(out.changes, prefix + "in", made.in);
    count(out.changes, prefix + "out", made.batch.events.size());
    count(out.changes, prefix + "dropped", made.dropped);
    count(out.changes, prefix + "unmatched", made.unmatched);
    count(out.changes, prefix + "unrouted", made.unrouted);
    count(out.changes, prefix + "bytes_in", made.bytes_in);
    count(out.changes, prefix + "steps_unbalanced", made.unbalanced);
    count_steps(out.changes, prefix, "step/" + configuration.version + "/" + name + "/", made);
    sample_unmatched(unmatched_, name, made);
    unbalanced += made.unbalanced;
    Section section{running.pipeline_ids[number], name, configuration.version, {}, &made.batch};
    for (const Work::Output& output : made.outputs) {
      const DestinationSettings& d = configuration.destinations[output.destination];
      Section::To to{running.destination_ids[output.destination], {}, {}, output.takes};
      if (!d.kind->stores) {
        count(out.changes, counter_of_destination(to.destination, "thrown_away"), output.count);
        continue;
      }
      if (d.namer) count(out.changes, prefix + "implausible_times", name_events(*d.namer, made.batch, to));
      events_for[to.destination] += output.count;
      section.to.push_back(std::move(to));
    }
    if (section.to.empty()) continue;
    section_of.back() = sections.size();
    sections.push_back(std::move(section));
  }
  count(out.changes, source + "leftovers", work.leftovers());
  count(out.changes, source + "left", work.left().size());
  for (const std::size_t i : work.left()) leftovers_.add(in.source, {in.lines[i].text, "", 0, in.observed});
  if (!sections.empty()) {
    const Slice slice{in.stream, in.resource->zone.name(), in.resource->fields};
    EncodedEvents encoded = encode_events(in.source, {&slice, 1}, sections);
    for (std::size_t i = 0; i < section_of.size(); ++i)
      if (section_of[i] != SIZE_MAX)
        count(out.changes, "pipeline/" + std::string(sections[section_of[i]].pipeline) + "/bytes_out",
              encoded.section_bytes[section_of[i]]);
    out.events = std::move(encoded.bytes);
    out.destinations = std::move(encoded.destinations);
  }
  for (const auto& [id, n] : out.destinations) unbalanced += difference(std::exchange(events_for[id], 0), n);
  for (const auto& [id, n] : events_for) unbalanced += n;
  if (unbalanced != 0) tell_unbalanced(in, unbalanced);
  count(out.changes, source + "unbalanced", unbalanced);
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
