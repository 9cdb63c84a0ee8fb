// The call that erases stored events, and its job.
#include "agent/engine/erase.h"

#include "server/calls/asking.h"
#include "server/jobs/jobs.h"
#include "server/json_answer.h"
#include "server/sample_sets.h"

namespace dingle {
namespace {

constexpr const char *kErase = "erase", *kDryErase = "erase, dry";

// Lines that were saved to try configurations with. `each`: whether it is to go.
std::uint64_t look_at_saved(Engine& engine, bool removes,
                            const std::function<bool(const std::string&)>& each) {
  SampleSets sets(engine.data_folder() + "/samples");
  std::uint64_t gone = 0;
  for (const std::string& name : sets.names()) {
    std::string problem;
    auto set = sets.get(name, problem);
    if (!set) continue;
    const auto n = std::erase_if(set->lines, each);
    gone += n;
    if (n == 0 || !removes) continue;
    if (set->lines.empty())
      sets.remove(name);
    else
      sets.keep(std::move(*set), false, *engine.configuration());
  }
  return gone;
}

// A position: { "epoch", "number": of the spool when it began, "looked": all events were looked at, and `left` says what of it }.
bool run_erase(JobWork& work, std::string& problem) {
  if (work.request.empty()) return true;  // it was done, when the program ended
  const bool dry = work.request["dry"];
  if (!work.position.is_object()) {
    const LogNumber now{work.engine.spool().identity().epoch, work.engine.spool().last_record()};
    work.position = {{"epoch", now.epoch}, {"number", now.number}};
    work.result = Json::object();
  }
  const StoredChoice choice = choice_in(work.request);
  Erase erase(work.engine, choice, {work.position["epoch"], work.position["number"]},
              [&] { return work.ends(); });
  erase.erased = work.result.value("erased", std::uint64_t{0});
  if (!dry) erase.by_index = work.result.value("by_index", erase.by_index);
  erase.letters_removed = dry ? 0 : work.result.value("letters", std::uint64_t{0});
  const auto note = [&] {
    work.result["erased"] = dry ? erase.read : erase.erased;
    work.result["letters"] = erase.letters_removed;
    work.result["by_index"] = dry ? erase.seen : erase.by_index;
    if (erase.waits_for.empty())
      work.result.erase("waits_for");
    else
      work.result["waits_for"] = erase.waits_for;
    work.done = work.result["erased"];
    work.reached();
  };
  note();
  problem = erase.begin();
  if (work.ends()) problem.clear();
  if (!problem.empty() || work.ends()) return false;
  const auto all = [&](Erase::Does what) {
    for (;;) {
      const Erase::Went went = erase.page(what, problem);
      if (went == Erase::Went::ended) return false;
      note();
      if (went == Erase::Went::to_end) return true;
    }
  };
  if (!work.position.contains("looked")) {
    look_at_saved(work.engine, false, [&](const std::string& line) { return erase.ask_for(line), false; });
    if (!all(Erase::Does::look)) return false;
    work.result["samples"] =
        look_at_saved(work.engine, !dry, [&](const std::string& line) { return erase.was_erased(line); });
    work.result["left"] = erase.left();
    work.total = erase.read;
    if (!dry) work.position["looked"] = true;
    note();
  }
  if (!dry && !all(Erase::Does::take_out)) return false;
  if (!dry && !erase.scrub(problem)) return false;
  if (problem = erase.letters(); !problem.empty()) return false;
  note();
  if (!dry && !erase.renew_spool(problem, note)) return false;
  if (!dry) erase.forget_samples();
  if (work.done == 0)
    work.result["notes"] = reasons_of_nothing(work.engine, choice.destination, choice.query(work.engine));
  note();
  work.leaves_nothing = !dry;
  return true;
}

const JobKindRegistration kEraseJob({kErase, "events", run_erase, "what is stored"});
const JobKindRegistration kDryEraseJob({kDryErase, "events", run_erase});

HttpAnswer start_erase(Api& api, const Asked& asked) {
  return start_with_choice(api, asked, kErase, kDryErase, false);
}

const CallRegistration kStartErase(
    {.method = "POST",
     .path = "/v1/erase",
     .name = "eraseEvents",
     .text = "Starts a job that erases stored events for good: from the index, the dead letters, the spool "
             "and samples; its result "
             "names what it cannot reach.",
     .body = parameters_of_choice("Only counts, and tells what it cannot reach."),
     .run = start_erase,
     .example =
         R"({"id":9,"kind":"erase","what":"of operations, by a condition","by":"owner","state":"waiting",
       "asked":"2026-11-30T10:00:00Z","began":null,"ended":null,"done":0,"total":0,"unit":"events","rate":null,
       "seconds_left":null,"result":{}})",
     .answer = job_schema,
     .status = 202,
     .is_long = true,
     .scope = Scope::operate});

}  // namespace
}  // namespace dingle
