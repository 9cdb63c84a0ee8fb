// The numbers of the counters of a configuration as it runs, looked up once; by them what became of a batch is counted.
#pragma once

#include <map>
#include <string>
#include <vector>

#include "agent/configuration.h"
#include "agent/sources/source.h"
#include "core/flow/work.h"
#include "spool/spool.h"

namespace dingle {

class FlowCounters {
 public:
  // Makes those that there are not yet. Steps are counted for their version of the configuration.
  FlowCounters(Spool& spool, const Configuration& configuration,
               const std::vector<std::uint32_t>& pipeline_ids,
               const std::vector<std::uint32_t>& destination_ids);

  struct OfPipeline {
    CounterId in, out, dropped, unmatched, unrouted, bytes_in, bytes_out, unbalanced, fields_left_out,
        values_as_text, implausible_times, created, merged, stood_for, early, passed_around;
  };
  const OfPipeline& pipeline(std::size_t number) const { return pipelines_[number]; }
  bool has_source(const std::string& name) const { return sources_.count(name) != 0; }
  const SourceCounters& source(const std::string& name) const { return sources_.at(name); }
  CounterId thrown_away(std::size_t destination) const { return thrown_away_[destination]; }
  CounterId bytes_in(std::uint32_t destination_id) const { return bytes_in_.at(destination_id); }

  // What a pipeline and its steps did.
  void count(const Work::Made& made, std::size_t number, Changes& changes) const;

 private:
  struct OfStep {
    CounterId in, out, dropped, failed, nanoseconds, created, merged, measured, bytes_in, bytes_out, missed,
        gave_up;
    std::vector<CounterId> matched, expensive;  // by template
  };
  std::vector<OfPipeline> pipelines_;
  std::vector<std::vector<OfStep>> steps_;
  std::map<std::string, SourceCounters> sources_;
  std::vector<CounterId> thrown_away_;
  std::map<std::uint32_t, CounterId> bytes_in_;
};

void count(Changes& changes, CounterId id, std::uint64_t n);  // n may be 0

}  // namespace dingle
