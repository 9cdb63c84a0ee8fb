// What becomes of stored events that go through their pipeline again.
#include <algorithm>
#include <set>
#include <tuple>

#include "agent/engine/rerun_parts.h"

namespace dingle {

namespace {

bool same_fields(std::span<const Field> a, std::span<const Field> b) {
  return a.size() == b.size() && std::all_of(a.begin(), a.end(), [&](const Field& f) {
           return std::any_of(b.begin(), b.end(), [&](const Field& g) {
             return (f.name == g.name || field_name(f.name) == field_name(g.name)) &&
                    f.value.kind() == g.value.kind() && f.value == g.value;
           });
         });
}

// Lines of which some step dropped what came.
struct Droppings final : FlowObserver {
  std::map<std::pair<std::uint16_t, std::uint64_t>, std::pair<const Pipeline*, std::uint16_t>>
      lines;  // and which step
  void finished(const Flow::Node& node, const Batch& batch) override {
    for (const Event& e : batch.events)
      if (e.dropped_by != 0) lines.try_emplace({e.slice, e.position}, node.pipeline.get(), e.dropped_by);
  }
  std::string step(const SourceLine& line) const {
    const auto found = lines.find({line.slice, line.position});
    if (found == lines.end()) return "";
    const Step& step = *found->second.first->steps[found->second.second - 1u];
    return "step " + std::to_string(step.number) + ": " + (step.name.empty() ? step.kind : step.name);
  }
};

Json json_of(const SpooledEvent& e) {
  std::string text;
  append_event_json(e, text);
  return parse_json(text);
}

}  // namespace

// An event that takes a stored one's place.
struct Rerun::Chosen {
  std::size_t event;  // of those that were made
  std::uint32_t branch;
  std::size_t old;  // whose place, on the page
};

// Lines of a group as one batch.
struct Rerun::Lines {
  std::optional<Zone> zone;
  std::string zone_name;  // slices point to it
  std::vector<Slice> slices;
  std::vector<std::span<const Field>> resources;        // by slice
  std::vector<std::pair<SourceLine, std::size_t>> all;  // with whose line it is, on the page; in their order
  std::shared_ptr<LineBuffer> buffer;
  std::size_t taken = 0;  // so many of the group; the others need slices that there are not
};

// Lines that stand at one place get slices of their own, so that each knows what came of it.
std::unique_ptr<Rerun::Lines> Rerun::lines_of(const Group& group, const std::vector<Old>& page) {
  auto made = std::make_unique<Lines>();
  Lines& l = *made;
  std::map<std::tuple<std::uint64_t, std::string, std::size_t>, std::uint16_t> known;
  std::map<std::pair<std::uint64_t, std::uint64_t>, std::size_t> times;
  if (auto zone = Zone::named(group.zone.empty() ? "UTC" : group.zone)) l.zone = *zone;
  l.zone_name = l.zone ? l.zone->name() : "UTC";
  std::size_t size = 0;
  for (const std::size_t i : group.old) size += page[i].line.size();
  l.buffer = std::make_shared<LineBuffer>(std::max<std::size_t>(1, size));
  char* to = l.buffer->bytes.get();
  for (; l.taken < group.old.size(); ++l.taken) {
    const std::size_t number = group.old[l.taken];
    const Old& old = page[number];
    const SpooledEvent& e = old.event;
    std::string resource;
    for (const Field& f : e.resource) {
      resource += field_name(f.name);
      resource += '\0' + f.value.to_string() + '\0';
    }
    if (l.slices.size() == UINT16_MAX) break;
    const auto [slice, fresh] =
        known.try_emplace({e.stream, std::move(resource), times[{e.stream, e.position}]++},
                          static_cast<std::uint16_t>(l.slices.size()));
    if (fresh) {
      l.slices.push_back({e.stream, group.source->name, l.zone_name, e.resource});
      l.resources.push_back(e.resource);
    }
    std::copy(old.line.begin(), old.line.end(), to);
    l.all.push_back({{{to, old.line.size()}, e.position, slice->second}, number});
    to += old.line.size();
  }
  l.buffer->finish(size);
  std::sort(l.all.begin(), l.all.end(), [](const auto& a, const auto& b) {
    return std::pair(a.first.slice, a.first.position) < std::pair(b.first.slice, b.first.position);
  });
  return made;
}

// A few of each sort, whose lines differ.
void Rerun::show(const char* what, const Old& old, const std::string& why, Json after) {
  std::size_t same = 0;
  for (const Example& e : examples) {
    if (e.what != what) continue;
    ++same;
    if (e.before.value("body", "") == old.event.body) return;
  }
  if (same < kMostExamples) examples.push_back({what, why, json_of(old.event), std::move(after)});
}

// Of a line of which several events are stored, or become: each takes its own place, the last one those of all others.
std::vector<std::size_t> Rerun::share_of(const Old& old, std::vector<std::size_t> its,
                                         std::span<const Event> events) {
  if (its.size() == 1 && old.rank != 0) return {};
  if (its.size() <= 1) return its;
  if (old.of > 1) {
    if (old.of <= its.size() && old.rank + 1 == old.of)
      return {its.begin() + static_cast<std::ptrdiff_t>(old.rank), its.end()};
    return old.rank < its.size() ? std::vector<std::size_t>{its[old.rank]} : std::vector<std::size_t>();
  }
  const auto same = std::find_if(its.begin(), its.end(),
                                 [&](std::size_t k) { return events[k].branch == old.event.branch; });
  return same != its.end() && siblings_.has(*store_, old.event) ? std::vector<std::size_t>{*same} : its;
}

// Encodes what takes the place of stored events, and counts it.
void Rerun::put_together(const Engine::Running& running, const Group& group, const std::vector<Old>& page,
                         const Lines& lines, const Work& work, const Work::Made& made,
                         std::span<const Chosen> chosen, Plan& plan) {
  const Configuration& c = *running.configuration;
  const DestinationSettings& d = *c.destination(asked_.destination);
  const std::vector<bool> altered = work.altered(made), hidden = work.hidden_elsewhere(made);
  const std::vector<Event>& events = made.batch.events;
  const auto section_of = [&](std::span<const Chosen> some, Batch& batch) {
    Section section{running.pipeline_ids[c.flow.nodes[group.node].number],
                    c.pipelines[c.flow.nodes[group.node].number].name,
                    c.version,
                    {},
                    &batch};
    Section::To destination{destination_, {}, {}};
    std::map<std::string, std::uint32_t> names;
    batch.resources = lines.resources;
    for (const Chosen& one : some) {
      const Old& old = page[one.old];
      Event e = events[one.event];
      bool implausible = false;
      std::string name = d.namer ? d.namer->name(made.batch, e, &implausible) : "";
      e.branch = one.branch;
      batch.events.push_back(e);
      const auto [it, added] = names.try_emplace(std::move(name), static_cast<std::uint32_t>(names.size()));
      if (added) destination.names.push_back(it->first);
      destination.name_of.push_back(it->second);
      if (!altered.empty()) section.altered.push_back(altered[one.event]);
      if (!hidden.empty()) section.hidden_elsewhere.push_back(hidden[one.event]);
      section.replaces.push_back({old.found.index, old.event.timestamp, old.found.order.spool,
                                  old.found.order.epoch, old.found.order.number, old.found.order.ordinal});
    }
    section.to.push_back(std::move(destination));
    return section;
  };
  Batch batch;
  const Section section = section_of(chosen, batch);
  const EncodedEvents encoded = encode_events(lines.slices, {section});
  for (std::size_t k = 0; k < chosen.size(); ++k) {
    const Old& old = page[chosen[k].old];
    const std::string index = index_name(section.to[0].names[section.to[0].name_of[k]]);
    const bool moves = index != old.found.index;
    ++counts.made;
    counts.moved += moves;
    if (moves && (this->moves.size() < kMostMoves || this->moves.count({old.found.index, index}) != 0))
      ++this->moves[{old.found.index, index}];
    const char* what = moves ? "moved" : "replaced";
    const auto shown =
        std::count_if(examples.begin(), examples.end(), [&](const Example& e) { return e.what == what; });
    if (static_cast<std::size_t>(shown) >= kMostExamples || (k != 0 && chosen[k - 1].old == chosen[k].old))
      continue;
    // As they would be read back.
    std::size_t n = 1;
    while (k + n < chosen.size() && chosen[k + n].old == chosen[k].old) ++n;
    Batch few;
    const EncodedEvents alone =
        encode_events(lines.slices, {section_of(std::span(chosen).subspan(k, n), few)});
    EventDecoder decoder;
    std::vector<SpooledEvent> after;
    decoder.decode(alone.bytes, destination_, after);
    Json list = Json::array();
    for (const SpooledEvent& e : after) list.push_back(json_of(e));
    show(what, old, "", std::move(list));
  }
  if (!asked_.dry) {
    Spool::Append& append = plan.append.emplace();
    for (std::size_t k = 0; k < encoded.destinations.size(); ++k)
      dingle::count(append.changes, running.counters->bytes_in(encoded.destinations[k].first),
                    encoded.bytes_for[k]);
    append.destinations = encoded.destinations;
    append.events = encoded.bytes;
    if (c.server.section("spool").text("compression") == "zstd") {
      append.events = compress_events(append.events);
      append.compressed = true;
    }
  }
}

// Runs the pipeline on the lines of a group: what is to be done with its events. What is in the way, or "".
std::string Rerun::judge(const Engine::Running& running, Group& group, std::vector<Old>& page,
                         std::vector<Plan>& plans) {
  const Configuration& c = *running.configuration;
  const std::unique_ptr<Lines> l = lines_of(group, page);
  std::vector<SourceLine> lines;
  std::vector<std::int64_t> observed;
  for (const auto& [line, number] : l->all)
    lines.push_back(line), observed.push_back(page[number].event.observed);
  const Arrived arrived{
      group.source->name,     lines,   l->buffer, l->resources, l->zone ? *l->zone : Zone(), 0, c.version,
      group.source->header(), observed};
  const auto& reached = c.flow.reached_from(group.source->name);
  const Work::Again again{group.node, 0, SIZE_MAX};
  std::optional<Work> work;
  if (std::find(reached.begin(), reached.end(), group.node) != reached.end())
    work.emplace(c.flow, arrived, again);
  else
    work.emplace(c.flow, arrived, group.node, again);
  Droppings dropped;
  work->watch(&dropped);
  work->advance();
  Work::Made* made = nullptr;
  for (Work::Made& m : work->made())
    if (m.node == group.node) made = &m;
  if (made == nullptr) return "the pipeline of some events is not reached";

  const std::vector<bool> altered = work->altered(*made);
  std::vector<Event>& events = made->batch.events;
  std::vector<Chosen> chosen;
  Plan plan;
  std::size_t at = 0;
  for (const auto& one : l->all) {
    const SourceLine& line = one.first;
    const std::size_t number = one.second;
    const Old& old = page[number];
    const auto is_its = [&](const Event& e) { return e.slice == line.slice && e.position == line.position; };
    while (at < events.size() &&
           std::pair(events[at].slice, events[at].position) < std::pair(line.slice, line.position))
      ++at;
    std::vector<std::size_t> its;
    for (std::size_t k = at; k < events.size() && is_its(events[k]); ++k) its.push_back(k);
    if (its.empty() && dropped.lines.count({line.slice, line.position}) == 0) {
      ++counts.not_taken;
      continue;
    }
    const auto failed =
        std::find_if(its.begin(), its.end(), [&](std::size_t k) { return events[k].failed_step != 0; });
    if (failed != its.end()) {
      ++counts.unmatched;
      const Field* reason = events[*failed].find(names::unmatched);
      show("unmatched", old,
           "step " + std::to_string(events[*failed].failed_step) +
               (reason ? ": " + reason->value.to_string() : ""));
      continue;
    }
    its = share_of(old, std::move(its), events);
    if (its.empty()) {
      ++counts.dropped;
      show("dropped", old, dropped.step(line));
      plan.gone[old.found.index].push_back({old.event.timestamp, old.found.order});
      continue;
    }
    if (its.size() == 1) {
      const Event& e = events[its[0]];
      const bool is_altered = !altered.empty() && altered[its[0]];
      if (e.timestamp == old.event.timestamp && e.template_number == old.event.template_number &&
          e.body == old.event.body && is_altered == old.event.altered &&
          same_fields(e.all(), old.event.fields)) {
        ++counts.unchanged;
        continue;
      }
    }
    ++counts.replaced;
    // The first keeps its branch; further ones get numbers that no other event of the line has.
    for (std::size_t k = 0; k < its.size(); ++k)
      chosen.push_back({its[k], old.event.branch + static_cast<std::uint32_t>(k << 16), number});
  }

  if (!chosen.empty()) put_together(running, group, page, *l, *work, *made, chosen, plan);
  if (!asked_.dry && (plan.append || !plan.gone.empty())) plans.push_back(std::move(plan));
  if (l->taken == group.old.size()) return "";
  group.old.erase(group.old.begin(), group.old.begin() + static_cast<std::ptrdiff_t>(l->taken));
  return judge(running, group, page, plans);
}

}  // namespace dingle
