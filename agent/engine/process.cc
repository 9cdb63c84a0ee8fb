// What happens to a batch: its pipelines are run, and what they made is encoded for the spool. Any worker
// does it.
#include <algorithm>
#include <deque>

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

// Which finished events a condition of `to` lets through; answers how many. All of them: `takes` stays empty.
std::uint64_t choose(const Condition& where, const Batch& batch, std::vector<bool>& takes) {
  std::uint64_t n = 0;
  for (const Event& event : batch.events) {
    takes.push_back(where.holds(EventReader(batch, event)));
    n += takes.back();
  }
  if (n == takes.size()) takes.clear();
  return n;
}

// Numbers what pipelines made of each line, in the order of the pipelines.
void number_branches(const std::vector<SourceLine>& lines, std::deque<Batch>& batches) {
  std::vector<std::uint32_t> made(lines.size(), 0);
  for (Batch& batch : batches) {
    std::size_t i = 0;  // events come in the order of their lines
    for (Event& event : batch.events) {
      while (i < lines.size() && lines[i].position != event.position) ++i;
      if (i < lines.size()) event.branch = made[i]++;
    }
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

// Runs every pipeline that claims the batch, and encodes what they made.
Spool::Append Engine::process(const Job& job) {
  const SourceBatch& in = job.batch;
  const Running& running = *job.running;
  newest_lines_.add(in);
  Spool::Append out;
  out.changes = in.changes;
  count(out.changes, "source/" + in.source + "/bytes", in.bytes);
  if (in.lines.empty()) return out;
  if (deaths_->deadly(in) && set_apart(in, out)) return out;
  const Deaths::Working working(in);
  std::vector<bool> claimed(in.lines.size(), false);
  std::deque<Batch> batches;
  std::vector<Section> sections;
  std::map<std::uint32_t, std::uint32_t> events_for;
  auto pipelines = running.pipelines_of.find(in.source);
  static const std::vector<std::size_t> kNone;
  for (std::size_t index : pipelines == running.pipelines_of.end() ? kNone : pipelines->second) {
    if (in.only_pipeline != 0 && in.only_pipeline != running.pipeline_ids[index]) continue;
    const PipelineSettings& settings = running.configuration->pipelines[index];
    const Pipeline& pipeline = *settings.pipeline;
    Batch& batch = batches.emplace_back();
    batch.buffer = in.buffer;
    batch.resource = in.resource->fields;
    batch.zone = in.resource->zone;
    batch.pipeline = settings.name;
    batch.configuration = running.configuration->version;
    batch.events.reserve(in.lines.size());
    for (std::size_t i = 0; i < in.lines.size(); ++i) {
      Event event;
      event.body = in.lines[i].text;
      event.position = in.lines[i].position;
      event.timestamp = event.observed = in.observed;
      if (!pipeline.takes(EventReader(batch, event))) continue;
      claimed[i] = true;
      batch.events.push_back(event);
    }
    const std::string prefix = "pipeline/" + settings.name + "/";
    const std::uint64_t taken = batch.events.size();
    std::vector<StepTally> tallies;
    pipeline.run(batch, tallies);
    if (live_.watched()) live_.show(batch, settings.name, running.configuration->version);
    std::erase_if(batch.events, [](const Event& e) { return e.dropped; });
    std::uint64_t unmatched = 0;
    count(out.changes, prefix + "in", taken);
    count(out.changes, prefix + "out", batch.events.size());
    count(out.changes, prefix + "dropped", taken - batch.events.size());
    for (std::size_t s = 0; s < tallies.size(); ++s) {
      const StepTally& t = tallies[s];
      const std::string step =
          "step/" + running.configuration->version + "/" + settings.name + "/" + std::to_string(s) + "/";
      count(out.changes, step + "in", t.in);
      count(out.changes, step + "out", t.out);
      count(out.changes, step + "dropped", t.dropped);
      count(out.changes, step + "failed", t.failed);
      count(out.changes, prefix + "fields_left_out", t.fields_left_out);
      count(out.changes, prefix + "values_as_text", t.values_as_text);
      count(out.changes, prefix + "steps_unbalanced", t.unbalanced);
      for (std::size_t m = 0; m < t.matched.size(); ++m)
        count(out.changes, step + "template/" + std::to_string(m + 1), t.matched[m]);
      for (std::size_t m = 0; m < t.expensive.size(); ++m)
        count(out.changes, step + "too_expensive/" + std::to_string(m + 1), t.expensive[m]);
      count(out.changes, step + "nanoseconds", t.nanoseconds);
    }
    const bool failures =
        std::any_of(tallies.begin(), tallies.end(), [](const StepTally& t) { return t.failed != 0; });
    for (const Event& e : failures ? std::span<const Event>(batch.events) : std::span<const Event>()) {
      if (e.failed_step == 0) continue;
      ++unmatched;
      const Field* reason = e.find(names::unmatched);
      const Field* column = e.find(names::unmatched_column);
      unmatched_.add(settings.name, {e.body, reason ? reason->value.to_string() : "",
                                     column ? static_cast<std::uint64_t>(column->value.as_integer()) : 0,
                                     e.observed, e.template_number != 0});
    }
    count(out.changes, prefix + "unmatched", unmatched);
    if (batch.events.empty()) continue;

    Section section;
    section.pipeline_id = running.pipeline_ids[index];
    section.pipeline = settings.name;
    section.configuration = running.configuration->version;
    section.batch = &batch;
    std::vector<bool> routed(batch.events.size(), false);
    for (const auto& [d, where] : running.to[index]) {
      const std::uint32_t id = running.destination_ids.at(d->name);
      if (in.only_destination != 0 && in.only_destination != id) continue;
      Section::To to;
      to.destination = id;
      // What is sent again was for that destination once.
      std::uint64_t taken_there = batch.events.size();
      if (where != nullptr && in.only_destination == 0) taken_there = choose(*where, batch, to.takes);
      for (std::size_t i = 0; i < routed.size(); ++i)
        routed[i] = routed[i] || to.takes.empty() || to.takes[i];
      if (taken_there == 0) continue;
      if (!d->kind->stores) {
        count(out.changes, counter_of_destination(id, "thrown_away"), taken_there);
        continue;
      }
      if (d->namer) count(out.changes, prefix + "implausible_times", name_events(*d->namer, batch, to));
      section.to.push_back(std::move(to));
      events_for[id] += static_cast<std::uint32_t>(taken_there);
    }
    if (in.only_destination == 0)
      count(out.changes, prefix + "unrouted",
            static_cast<std::uint64_t>(std::count(routed.begin(), routed.end(), false)));
    if (!section.to.empty()) sections.push_back(std::move(section));
  }
  count(out.changes, "source/" + in.source + "/leftovers",
        static_cast<std::uint64_t>(std::count(claimed.begin(), claimed.end(), false)));
  number_branches(in.lines, batches);
  const Slice slice{in.stream, in.resource->zone.name(), in.resource->fields};
  if (!sections.empty()) out.events = encode_events(in.source, {&slice, 1}, sections);
  if (!out.events.empty() && running.configuration->server.section("spool").text("compression") == "zstd") {
    out.events = compress_events(out.events);
    out.compressed = true;
  }
  out.destinations.assign(events_for.begin(), events_for.end());
  return out;
}

}  // namespace dingle
