// The status: all of it from numbers that were taken at one moment.
#include "core/time/instant.h"
#include "server/api.h"
#include "server/json_answer.h"

namespace dingle {
namespace {

constexpr std::size_t kMostReasons = 5;  // of dead letters, for each destination

class Numbers {
 public:
  explicit Numbers(const Spool::View& view) : counters_(view.counters) {}
  std::int64_t operator()(const std::string& name) const {
    auto it = counters_.find(name);
    return it == counters_.end() ? 0 : it->second;
  }

 private:
  const std::map<std::string, std::int64_t>& counters_;
};

// One balance: what came in against what became of it.
struct Balance {
  std::string stage;
  std::int64_t in = 0, accounted = 0;
};

Json steps_of(const Engine::Flowing& flowing, std::size_t pipeline, const Numbers& n) {
  const Configuration& c = *flowing.configuration;
  const PipelineSettings& p = c.pipelines[pipeline];
  Json steps = Json::array();
  for (std::size_t i = 0; i < p.pipeline->steps.size(); ++i) {
    const Step& step = *p.pipeline->steps[i];
    const std::string prefix = "step/" + c.version + "/" + p.name + "/" + std::to_string(i) + "/";
    const auto about = [&](const char* bytes) {  // by what was measured of some of its events
      const double measured = static_cast<double>(n(prefix + "measured"));
      return measured == 0 ? 0
                           : static_cast<std::int64_t>(static_cast<double>(n(prefix + bytes)) / measured *
                                                       static_cast<double>(n(prefix + "in")));
    };
    Json s{{"step", step.kind},
           {"name", step.name},
           {"in", n(prefix + "in")},
           {"out", n(prefix + "out")},
           {"dropped", n(prefix + "dropped")},
           {"failed", n(prefix + "failed")},
           {"missed", n(prefix + "missed")},
           {"gave_up", n(prefix + "gave_up")},
           {"about_bytes_in", about("bytes_in")},
           {"about_bytes_out", about("bytes_out")}};
    if (step.off) s["off"] = true;
    for (const auto& m : flowing.memories)
      if (step.with_memory() && m.pipeline == pipeline && m.step == name_of(step)) {
        s["created"] = n(prefix + "created");
        s["merged"] = n(prefix + "merged");
        s["memory"] = {{"entries", m.size.entries},
                       {"bytes", m.size.bytes},
                       {"most_bytes", step.with_memory()->most_bytes()},
                       {"held", n(m.held_counter)}};
      }
    const auto in = n(prefix + "in");
    s["nanoseconds_each"] = in == 0 ? 0 : n(prefix + "nanoseconds") / in;
    const std::vector<std::string> templates = step.templates();
    for (std::size_t t = 0; t < templates.size(); ++t) {
      const std::string number = std::to_string(t + 1);
      s["templates"].push_back({{"template", templates[t]},
                                {"matched", n(prefix + "template/" + number)},
                                {"too_expensive", n(prefix + "too_expensive/" + number)}});
    }
    steps.push_back(std::move(s));
  }
  return steps;
}

// How long the queue takes to empty at these rates; null if it does not.
Json drained_in(const Spool::Waiting& w, double in, double out) {
  if (w.events == 0) return 0;
  return out > in ? Json(static_cast<double>(w.events) / (out - in)) : Json();
}

// closed: it delivers. open: it waits, and tries nothing. half_open: one batch is tried.
const char* circuit(const DeliveryThread::Status& d, std::int64_t now) {
  return !d.failing ? "closed" : now < d.next_try ? "open" : "half_open";
}

}  // namespace

std::string status_json(Engine& engine) {
  const auto sources = engine.sources();  // before the spool is looked at: what left them is there then
  const Spool::View view = engine.spool().view();
  const Numbers n(view);
  const Engine::Flowing flowing = engine.flowing();
  const std::shared_ptr<const Configuration>& configuration = flowing.configuration;
  const std::int64_t now = system_now();
  Json root;
  root["time"] = format_rfc3339(now);
  root["started"] = format_rfc3339(engine.started());
  root["configuration"] = configuration->version;
  bool paused = engine.paused();
  std::vector<Balance> balances;
  root["sources"] = Json::array();
  for (const auto& s : sources) {
    const std::string prefix = "source/" + s.name + "/";
    Json source{{"name", s.name}, {"kind", s.kind}, {"open", s.open}};
    source["bytes_behind"] = s.bytes_behind ? Json(*s.bytes_behind) : Json();
    if (!s.listening.empty()) source["listening"] = s.listening;
    if (!s.waits_for.empty()) source["waits_for"] = s.waits_for, paused = true;
    for (const std::string& what : kSourceCounters) source[what] = n(prefix + what);
    balances.push_back({"source " + s.name, n(prefix + "lines"),
                        n(prefix + "events") + n(prefix + "empty") + n(prefix + "joined")});
    balances.push_back(
        {"batches of " + s.name, n(prefix + "events"), n(prefix + "events") - n(prefix + "unbalanced")});
    root["sources"].push_back(std::move(source));
  }
  root["paused"] = paused;
  root["pipelines"] = Json::array();
  for (std::size_t number = 0; number < configuration->pipelines.size(); ++number) {
    const PipelineSettings& p = configuration->pipelines[number];
    const std::string prefix = counter_of_pipeline(flowing.pipeline_ids[number], "");
    const std::int64_t in = n(prefix + "in"), out = n(prefix + "out"), dropped = n(prefix + "dropped"),
                       unmatched = n(prefix + "unmatched"), created = n(prefix + "created"),
                       merged = n(prefix + "merged");
    std::int64_t held = 0;
    for (const auto& m : flowing.memories)
      if (m.pipeline == number) held += n(m.held_counter);
    root["pipelines"].push_back({{"name", p.name},
                                 {"in", in},
                                 {"matched", out + merged - created - unmatched},
                                 {"unmatched", unmatched},
                                 {"dropped", dropped},
                                 {"merged", merged},
                                 {"created", created},
                                 {"held", held},
                                 {"given_up", n(prefix + "given_up")},
                                 {"early", n(prefix + "early")},
                                 {"passed_around", n(prefix + "passed_around")},
                                 {"out", out},
                                 {"unrouted", n(prefix + "unrouted")},
                                 {"bytes_in", n(prefix + "bytes_in")},
                                 {"bytes_out", n(prefix + "bytes_out")},
                                 {"implausible_times", n(prefix + "implausible_times")},
                                 {"fields_left_out", n(prefix + "fields_left_out")},
                                 {"values_as_text", n(prefix + "values_as_text")},
                                 {"steps", steps_of(flowing, number, n)}});
    balances.push_back({"pipeline " + p.name, in + created, out + dropped + merged});
    balances.push_back(
        {"memory of " + p.name, merged, n(prefix + "stood_for") + held + n(prefix + "given_up")});
    balances.push_back({"steps of " + p.name, in, in - n(prefix + "steps_unbalanced")});
  }
  root["destinations"] = Json::array();
  for (const auto& d : engine.destinations()) {
    auto it = view.waiting.find(d.id);
    const Spool::Waiting w = it == view.waiting.end() ? Spool::Waiting{} : it->second;
    const std::int64_t thrown = n(counter_of_destination(d.id, "thrown_away")),
                       aside = n(counter_of_destination(d.id, "set_aside")),
                       damaged = n(counter_of_destination(d.id, "damaged")),
                       unknown = n(counter_of_destination(d.id, "unknown")),
                       shed_oldest = n(counter_of_destination(d.id, "shed_oldest")),
                       shed_newest = n(counter_of_destination(d.id, "shed_newest"));
    const std::int64_t in = static_cast<std::int64_t>(w.appended) + thrown + shed_newest;
    const std::int64_t sent = n(counter_of_destination(d.id, "answered")) + thrown;
    const std::int64_t stored = n(counter_of_destination(d.id, "stored")),
                       elsewhere = n(counter_of_destination(d.id, "elsewhere")),
                       apart = n(counter_of_destination(d.id, "apart"));
    const bool tells = d.delivery.tells_stored || stored != 0;
    Json reasons = Json::array();
    for (const Letters::Sum& sum : engine.letters().reasons(d.id, kMostReasons))
      reasons.push_back({{"reason", sum.reason}, {"letters", sum.letters}});
    root["destinations"].push_back(
        {{"name", d.name},
         {"kind", d.kind},
         {"in", in},
         {"sent", sent},
         {"stored", tells ? Json(stored) : Json()},
         {"elsewhere", elsewhere},
         {"apart", apart},
         {"bytes_in", n(counter_of_destination(d.id, "bytes_in"))},
         {"bytes_out", n(counter_of_destination(d.id, "bytes_out"))},
         {"waiting", w.events},
         {"waiting_bytes", w.bytes},
         {"oldest_waiting_seconds", w.oldest ? static_cast<double>(now - w.oldest) / 1e9 : 0.0},
         {"set_aside", aside},
         {"restored", n(counter_of_destination(d.id, "rewound"))},
         {"damaged", damaged},
         {"unknown", unknown},
         {"retried", n(counter_of_destination(d.id, "retried"))},
         {"replaced", n(counter_of_destination(d.id, "replaced"))},
         {"removed_indexes", n(counter_of_destination(d.id, "removed_indexes"))},
         {"removed_events", n(counter_of_destination(d.id, "removed_events"))},
         {"erased_events", n(counter_of_destination(d.id, "erased_events"))},
         {"shed", shed_oldest + shed_newest},
         {"letters", engine.letters().count(d.id)},
         {"letters_lost", engine.letters().lost(d.id)},
         {"letters_by_reason", std::move(reasons)},
         {"in_per_second", d.in_rate},
         {"out_per_second", d.out_rate},
         {"drained_in_seconds", drained_in(w, d.in_rate, d.out_rate)},
         {"lag_seconds", static_cast<double>(d.delivery.lag) / 1e9},
         {"latency_seconds", {{"p50", d.latency_p50}, {"p99", d.latency_p99}}},
         {"events_at_once", d.delivery.at_once ? Json(d.delivery.at_once) : Json()},
         {"failing", d.delivery.failing},
         {"circuit", circuit(d.delivery, now)},
         {"reason", d.delivery.reason},
         {"since", d.delivery.since ? Json(format_rfc3339(d.delivery.since)) : Json()},
         {"next_try", d.delivery.next_try ? Json(format_rfc3339(d.delivery.next_try)) : Json()},
         {"last_accepted",
          d.delivery.last_accepted ? Json(format_rfc3339(d.delivery.last_accepted)) : Json()}});
    balances.push_back(
        {"destination " + d.name, in,
         sent + static_cast<std::int64_t>(w.events) + aside + damaged + unknown + shed_oldest + shed_newest});
    if (tells) balances.push_back({"stored in " + d.name, sent - thrown + apart, stored + elsewhere});
    if (d.delivery.kept)
      balances.push_back({"kept in " + d.name, static_cast<std::int64_t>(d.delivery.kept->first),
                          static_cast<std::int64_t>(d.delivery.kept->second)});
  }
  bool balanced = true;
  root["balance"] = Json::array();
  for (const Balance& b : balances) {
    balanced = balanced && b.in == b.accounted;
    root["balance"].push_back({{"stage", b.stage}, {"in", b.in}, {"accounted_for", b.accounted}});
  }
  root["balanced"] = balanced;
  const Spool::Size size = engine.spool().size();
  const Spool::Recovery& r = engine.spool().recovery();
  root["spool"] = {{"bytes", size.bytes},
                   {"segments", size.segments},
                   {"epoch", engine.spool().identity().epoch},
                   {"failed_syncs", size.failed_syncs},
                   {"damaged_records", r.damaged_records},
                   {"cut_bytes", r.cut_bytes}};
  root["problems"] = Json::array();
  for (const auto& p : engine.problems().all())
    root["problems"].push_back({{"about", p.about},
                                {"text", p.text},
                                {"since", format_rfc3339(p.since)},
                                {"last", format_rfc3339(p.last)},
                                {"times", p.times}});
  return dump(root);
}

}  // namespace dingle
