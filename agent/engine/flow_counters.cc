#include "agent/engine/flow_counters.h"

namespace dingle {

void count(Changes& changes, CounterId id, std::uint64_t n) {
  if (n != 0) changes.counters.push_back({id, static_cast<std::int64_t>(n)});
}

FlowCounters::FlowCounters(Spool& spool, const Configuration& c,
                           const std::vector<std::uint32_t>& pipeline_ids,
                           const std::vector<std::uint32_t>& destination_ids) {
  for (const PipelineSettings& p : c.pipelines) {
    const auto id = [&](const char* what) {
      return spool.counter_id(counter_of_pipeline(pipeline_ids[pipelines_.size()], what));
    };
    pipelines_.push_back({id("in"), id("out"), id("dropped"), id("unmatched"), id("unrouted"), id("bytes_in"),
                          id("bytes_out"), id("steps_unbalanced"), id("fields_left_out"),
                          id("values_as_text"), id("implausible_times"), id("created"), id("merged"),
                          id("stood_for"), id("early"), id("passed_around")});
    steps_.emplace_back();
    for (std::size_t i = 0; i < p.pipeline->steps.size(); ++i) {
      const std::string prefix = "step/" + c.version + "/" + p.name + "/" + std::to_string(i) + "/";
      const auto of_step = [&](const std::string& what) { return spool.counter_id(prefix + what); };
      OfStep step{of_step("in"),
                  of_step("out"),
                  of_step("dropped"),
                  of_step("failed"),
                  of_step("nanoseconds"),
                  of_step("created"),
                  of_step("merged"),
                  of_step("measured"),
                  of_step("bytes_in"),
                  of_step("bytes_out"),
                  of_step("missed"),
                  of_step("gave_up"),
                  {},
                  {}};
      for (std::size_t t = 0; t < p.pipeline->steps[i]->templates().size(); ++t) {
        step.matched.push_back(of_step("template/" + std::to_string(t + 1)));
        step.expensive.push_back(of_step("too_expensive/" + std::to_string(t + 1)));
      }
      steps_.back().push_back(std::move(step));
    }
  }
  for (const SourceSettings& s : c.sources) sources_.emplace(s.name, SourceCounters(spool, s.name));
  for (const std::uint32_t id : destination_ids) {
    thrown_away_.push_back(spool.counter_id(counter_of_destination(id, "thrown_away")));
    bytes_in_[id] = spool.counter_id(counter_of_destination(id, "bytes_in"));
  }
}

void FlowCounters::count(const Work::Made& made, std::size_t number, Changes& changes) const {
  const OfPipeline& p = pipelines_[number];
  dingle::count(changes, p.in, made.in);
  dingle::count(changes, p.out, made.batch.events.size());
  dingle::count(changes, p.dropped, made.dropped);
  dingle::count(changes, p.unmatched, made.unmatched);
  dingle::count(changes, p.unrouted, made.unrouted);
  dingle::count(changes, p.bytes_in, made.bytes_in);
  dingle::count(changes, p.unbalanced, made.unbalanced);
  dingle::count(changes, p.created, made.created);
  dingle::count(changes, p.merged, made.merged);
  for (std::size_t s = 0; s < made.tallies.size(); ++s) {
    const StepTally& t = made.tallies[s];
    const OfStep& step = steps_[number][s];
    dingle::count(changes, step.in, t.in);
    dingle::count(changes, step.out, t.out);
    dingle::count(changes, step.dropped, t.dropped);
    dingle::count(changes, step.failed, t.failed);
    dingle::count(changes, step.nanoseconds, t.nanoseconds);
    dingle::count(changes, step.created, t.created);
    dingle::count(changes, step.merged, t.merged);
    dingle::count(changes, step.measured, t.measured);
    dingle::count(changes, step.bytes_in, t.bytes_in);
    dingle::count(changes, step.bytes_out, t.bytes_out);
    dingle::count(changes, step.missed, t.missed);
    dingle::count(changes, step.gave_up, t.gave_up);
    dingle::count(changes, p.stood_for, t.stood_for);
    dingle::count(changes, p.early, t.early);
    dingle::count(changes, p.passed_around, t.passed_around);
    dingle::count(changes, p.fields_left_out, t.fields_left_out);
    dingle::count(changes, p.values_as_text, t.values_as_text);
    for (std::size_t m = 0; m < std::min(t.matched.size(), step.matched.size()); ++m)
      dingle::count(changes, step.matched[m], t.matched[m]);
    for (std::size_t m = 0; m < std::min(t.expensive.size(), step.expensive.size()); ++m)
      dingle::count(changes, step.expensive[m], t.expensive[m]);
  }
}

}  // namespace dingle
