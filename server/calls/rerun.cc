// The call that puts stored events through their pipelines again, and its job.
#include "agent/engine/rerun.h"

#include "server/calls/asking.h"
#include "server/jobs/jobs.h"
#include "server/json_answer.h"

namespace dingle {
namespace {

constexpr const char *kRerun = "rerun", *kDryRerun = "rerun, dry";

// A position: { "epoch", "number": of the spool when it began, "after": the place of the last event that is done,
// "until": of the last one of the page that was begun, "then": what is counted at its end }.
std::optional<Rerun::Place> place_of(const Json& position) {
  if (!position.is_object()) return std::nullopt;
  Rerun::Place place{{position["epoch"], position["number"]}, {}, {}};
  if (position.contains("after")) place.after = EventPlace::parse(position["after"].get<std::string>());
  if (position.contains("until")) place.until = EventPlace::parse(position["until"].get<std::string>());
  return place;
}

Json position_of(const Rerun::Place& place) {
  Json position{{"epoch", place.start.epoch}, {"number", place.start.number}};
  if (place.after) position["after"] = place.after->text();
  if (place.until) position["until"] = place.until->text();
  return position;
}

void take_over(Rerun& rerun, const Json& result) {
  if (!result.is_object()) return;
  for (const auto& [name, count] : Rerun::Counts::all())
    rerun.counts.*count = result.value(name, std::uint64_t{0});
  for (const Json& m : result.value("moves", Json::array())) rerun.moves[{m["from"], m["to"]}] = m["events"];
  for (const Json& e : result.value("examples", Json::array()))
    rerun.examples.push_back({e["what"], e.value("why", ""), e["before"], e["after"]});
}

Json result_of(const Rerun& rerun, bool dry) {
  Json result;
  for (const auto& [name, count] : Rerun::Counts::all()) result[name] = rerun.counts.*count;
  result["moves"] = Json::array();
  for (const auto& [way, events] : rerun.moves)
    result["moves"].push_back({{"from", way.first}, {"to", way.second}, {"events", events}});
  if (!dry) return result;
  result["examples"] = Json::array();
  for (const Rerun::Example& e : rerun.examples)
    result["examples"].push_back(
        {{"what", e.what}, {"why", e.why}, {"before", e.before}, {"after", e.after}});
  return result;
}

bool run_rerun(JobWork& work, std::string& problem) {
  const bool dry = work.request["dry"];
  const StoredChoice choice = choice_in(work.request);
  Json then = work.position.is_object() ? work.position.value("then", Json()) : Json();
  const auto planned = [&](const Rerun& rerun, const Rerun::Place& page) {
    work.position = position_of(page);
    then = result_of(rerun, dry);
    work.position["then"] = then;
    work.reached();
  };
  Rerun rerun(
      work.engine, choice, place_of(work.position), [&] { return work.ends(); }, planned);
  take_over(rerun, work.result);
  const auto note = [&] {
    work.position = position_of(rerun.place());
    if (rerun.place().until) work.position["then"] = then;
    work.result = result_of(rerun, dry);
    work.done = rerun.counts.read;
    work.reached();
  };
  note();  // when it began is settled
  problem = rerun.begin();
  if (work.ends()) problem.clear();
  if (!problem.empty() || work.ends()) return false;
  work.total = rerun.counts.read + rerun.count();
  for (;;) {
    const bool was_begun = rerun.place().until.has_value();
    const Rerun::Went went = rerun.page(problem);
    if (went == Rerun::Went::ended) return false;
    if (was_begun && !rerun.place().until) take_over(rerun, then);
    note();
    if (went == Rerun::Went::to_end) break;
  }
  if (!dry && !rerun.finish()) return false;
  if (rerun.counts.read == 0)
    work.result["notes"] = reasons_of_nothing(work.engine, choice.destination, choice.query(work.engine));
  work.total = work.done;
  return true;
}

const JobKindRegistration kRerunJob({kRerun, "events", run_rerun, "what is stored"});
const JobKindRegistration kDryRerunJob({kDryRerun, "events", run_rerun});

HttpAnswer start_rerun(Api& api, const Asked& asked) {
  return start_with_choice(api, asked, kRerun, kDryRerun, true);
}

const CallRegistration kStartRerun(
    {.method = "POST",
     .path = "/v1/rerun",
     .name = "rerunEvents",
     .text = "Starts a job that puts stored events through their pipelines as they are now; each is stored "
             "anew in its own place.",
     .body = parameters_of_choice(
         "Only looks: what would be replaced, moved, dropped and left, with examples before and after."),
     .run = start_rerun,
     .example =
         R"({"id":8,"kind":"rerun","what":"of operations where dingle.pipeline = 'gate'","by":"owner","state":"waiting",
       "asked":"2026-11-30T10:00:00Z","began":null,"ended":null,"done":0,"total":0,"unit":"events","rate":null,
       "seconds_left":null,"result":{}})",
     .answer = job_schema,
     .status = 202,
     .is_long = true,
     .scope = Scope::operate});

}  // namespace
}  // namespace dingle
