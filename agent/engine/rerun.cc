#include "agent/engine/rerun.h"

#include <algorithm>
#include <chrono>
#include <cstring>
#include <set>
#include <thread>
#include <tuple>

#include "agent/engine/rerun_parts.h"
#include "agent/engine/stored_record.h"
#include "agent/sealing.h"
#include "agent/secret.h"
#include "spool/events.h"

namespace dingle {

using namespace std::chrono_literals;

namespace {

constexpr std::size_t kPage = 10'000;             // events
constexpr std::size_t kMostPageBytes = 8u << 20;  // as they are kept of a page
constexpr auto kRead = 600s;                      // for one page

// Whose line it was, and by which pipeline: its own name, or the one that it had.
template <class All>
const typename All::value_type* named(const All& all, std::string_view name) {
  const typename All::value_type* renamed = nullptr;
  for (const auto& one : all) {
    if (one.name == name) return &one;
    if (one.was == name && !name.empty()) renamed = &one;
  }
  return renamed;
}

}  // namespace

const std::vector<std::pair<const char*, std::uint64_t Rerun::Counts::*>>& Rerun::Counts::all() {
  static const std::vector<std::pair<const char*, std::uint64_t Counts::*>> all{
      {"read", &Counts::read},           {"replaced", &Counts::replaced},      {"made", &Counts::made},
      {"moved", &Counts::moved},         {"unchanged", &Counts::unchanged},    {"dropped", &Counts::dropped},
      {"unmatched", &Counts::unmatched}, {"not_taken", &Counts::not_taken},    {"altered", &Counts::altered},
      {"of_steps", &Counts::of_steps},   {"no_pipeline", &Counts::no_pipeline}};
  return all;
}

Rerun::Rerun(Engine& engine, StoredChoice asked, std::optional<Place> place, std::function<bool()> ends,
             std::function<void(const Rerun&, const Place&)> planned)
    : engine_(engine), asked_(std::move(asked)), ends_(std::move(ends)), planned_(std::move(planned)) {
  if (place)
    place_ = std::move(*place);
  else
    place_.start = {engine_.spool().identity().epoch, engine_.spool().last_record()};
}

bool Rerun::finish() { return wait_until_passed(engine_.spool(), destination_, ends_); }

std::string Rerun::begin() {
  const auto running = engine_.running();
  const DestinationSettings* d = running->configuration->destination(asked_.destination);
  const auto stores = engine_.stores(asked_.destination);
  if (d == nullptr || stores.empty())
    return "the destination `" + asked_.destination + "` of the kind `index` is gone";
  store_ = stores[0];
  destination_ = running->id_of(*d);
  if (const std::string key = running->configuration->server.section("held").text("key"); !key.empty())
    if (const auto secret = read_secret_at(key)) secret_ = *secret;
  return finish() ? "" : "it was stopped";
}

std::uint64_t Rerun::count() const {
  Query query = asked_.query(engine_);
  if (place_.after) query.from = std::max(asked_.from, place_.after->timestamp);
  Scanned scanned;
  Grouping grouping;
  grouping.as_stored = true;
  return group_events({store_.get()}, query, grouping, scanned).events;
}

// The next events that are meant; `last`: there are no more.
bool Rerun::read(std::vector<Old>& page, std::string& problem, bool& last) {
  Query query = asked_.query(engine_);
  query.after = place_.after;
  query.until = std::chrono::steady_clock::now() + kRead;
  Scanned scanned;
  const auto write = [&](const StoredEvent& e, std::string& to) { to = record_of(e, destination_); };
  auto found = find_events({store_.get()}, query, kPage, write, scanned, kMostPageBytes);
  if (!scanned.problems.empty()) return problem = scanned.problems.front(), false;
  if (scanned.stopped) return problem = "a page could not be read within ten minutes", false;
  last = found.size() < kPage && !scanned.cut;
  std::vector<SpooledEvent> events;
  for (FoundEvent& f : found) {
    if (place_.until && *place_.until < f.place()) {
      place_.after = place_.until;
      last = false;
      break;
    }
    place_.after = f.place();
    if (is_newer(f.order, place_.start, engine_.spool())) continue;
    Old& old = page.emplace_back();
    old.found = std::move(f);
    old.decoder = std::make_unique<EventDecoder>();
    events.clear();
    if (!old.decoder->decode(old.found.json, destination_, events) || events.size() != 1)
      return problem = "an event of the index " + old.found.index + " cannot be taken over", false;
    old.event = events[0];
  }
  return true;
}

// Which can be put through their pipeline again, in groups; the others are counted.
void Rerun::sort_out(const Engine::Running& running, std::vector<Old>& page, std::vector<Group>& groups) {
  const Configuration& c = *running.configuration;
  std::map<std::tuple<const SourceSettings*, std::size_t, std::string>, std::size_t> known;
  std::map<std::tuple<std::uint64_t, std::uint64_t, std::string_view>, std::vector<std::size_t>> lines;
  std::map<std::uint64_t, bool> of_agents;  // by spool
  for (std::size_t i = 0; i < page.size(); ++i) {
    Old& old = page[i];
    const SpooledEvent& e = old.event;
    ++counts.read;
    const auto has = [&](FieldId name) {
      return std::any_of(e.fields.begin(), e.fields.end(), [&](const Field& f) { return f.name == name; });
    };
    if (e.source.empty() || has(names::stands_for)) {
      ++counts.of_steps;
      continue;
    }
    // What an agent elsewhere sent was made by pipelines of its own, whatever they are called.
    const std::uint64_t spool = old.found.order.spool;
    const auto [its, asked] = of_agents.try_emplace(spool, false);
    if (asked && spool != engine_.spool().identity().spool_id)
      its->second = engine_.spool().state("agent/" + std::to_string(spool)).has_value();
    const SourceSettings* source = its->second ? nullptr : named(c.sources, e.source);
    const PipelineSettings* pipeline = named(c.pipelines, e.pipeline);
    std::optional<std::size_t> node;
    for (std::size_t n = 0; n < c.flow.nodes.size(); ++n)
      if (pipeline != nullptr && &c.pipelines[c.flow.nodes[n].number] == pipeline) node = n;
    const auto& reached = source ? c.flow.reached_from(source->name) : std::vector<std::size_t>();
    const bool joined = node && (std::find(reached.begin(), reached.end(), *node) != reached.end() ||
                                 c.flow.nodes[*node].from.empty());
    if (source == nullptr || !joined) {
      ++counts.no_pipeline;
      continue;
    }
    std::optional<std::string> line;
    if (has(names::held) && !secret_.empty())
      line = open_sealed(e.get(names::held).as_text(), secret_);
    else if (!e.altered)
      line = std::string(e.body);
    if (!line) {
      ++counts.altered;
      continue;
    }
    old.line = std::move(*line);
    lines[{e.stream, e.position, e.pipeline}].push_back(i);
    const auto [it, added] = known.try_emplace({source, *node, std::string(e.zone)}, groups.size());
    if (added) groups.push_back({source, *node, std::string(e.zone), {}});
    groups[it->second].old.push_back(i);
  }
  for (auto& [line, all] : lines) {
    std::sort(all.begin(), all.end(),
              [&](std::size_t a, std::size_t b) { return page[a].event.branch < page[b].event.branch; });
    for (std::size_t rank = 0; rank < all.size(); ++rank)
      page[all[rank]].rank = rank, page[all[rank]].of = all.size();
  }
}

std::string Rerun::carry_out(Plan& plan) {
  // A disk that is full or slow is waited for.
  int error = 0;
  while (plan.append && (error = engine_.spool().append(*plan.append)) != 0 && error != EMSGSIZE &&
         error != ECANCELED && !ends_())
    std::this_thread::sleep_for(100ms);
  if (error != 0) return std::string("cannot write the spool: ") + std::strerror(error);
  for (const auto& [index, events] : plan.gone)
    if (const auto removed = store_->take_out(index, events); !removed) return removed.problem().message;
  return "";
}

Rerun::Went Rerun::page(std::string& problem) {
  if (ends_()) return Went::ended;
  const Place before = place_;
  const Counts counted = counts;
  const auto moved = moves;
  std::vector<Old> page;
  bool last = false;
  if (!read(page, problem, last)) {
    place_ = before;
    return Went::ended;
  }
  // What comes live goes first.
  const auto room = [&] {
    const auto configuration = engine_.configuration();
    const DestinationSettings* d = configuration->destination(asked_.destination);
    if (d == nullptr) return true;
    const auto most = std::min(configuration->server.section("spool").number("limit"),
                               d->common.section("queue").number("limit"));
    return engine_.spool().waiting(destination_).bytes <= static_cast<std::uint64_t>(most) / 4;
  };
  if (!asked_.dry && !wait_until(room, ends_)) {
    place_ = before;
    return Went::ended;
  }
  Lock swapping(engine_.swapping_);
  const auto running = engine_.running();
  const TableScope tables(running->configuration->tables_by_name);
  const DestinationSettings* d = running->configuration->destination(asked_.destination);
  if (d == nullptr || running->id_of(*d) != destination_) {
    problem = "the destination `" + asked_.destination + "` is gone";
  } else {
    std::vector<Group> groups;
    std::vector<Plan> plans;
    sort_out(*running, page, groups);
    for (Group& group : groups)
      if (problem.empty()) problem = judge(*running, group, page, plans);
    // Of a page that was begun before, it is known already.
    if (problem.empty() && !plans.empty() && !before.until) {
      Place begun = before;
      begun.until = place_.after;
      planned_(*this, begun);
      place_.until = begun.until;
    }
    for (Plan& plan : plans)
      if (problem.empty()) problem = carry_out(plan);
  }
  if (problem.empty()) {
    if (before.until) counts = counted, moves = moved;
    if (!before.until || last || (place_.after && !(*place_.after < *before.until))) place_.until.reset();
    return last ? Went::to_end : Went::on;
  }
  if (ends_()) problem.clear();
  // What was put into the spool of it is waited for, and not read again.
  place_.after = before.after;
  counts = counted;
  moves = moved;
  return Went::ended;
}

}  // namespace dingle
