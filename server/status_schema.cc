// What `GET /v1/status` answers, as a JSON Schema.
#include "agent/sources/source.h"
#include "server/api.h"
#include "server/calls/call.h"

namespace dingle {
namespace {

Json counts(const std::vector<const char*>& names) {
  std::vector<Member> members;
  for (const char* name : names) members.push_back({name, is_integer()});
  return object_of(members);
}

// One of those and more.
Json with(Json object, const std::vector<Member>& more) {
  for (const Member& m : more) {
    object["properties"][m.name] = m.schema;
    if (m.always) object["required"].push_back(m.name);
  }
  return object;
}

Json source_schema() {
  std::vector<Member> members{{"name", is_text()},
                              {"kind", is_text()},
                              {"open", is_integer()},
                              {"bytes_behind", or_null(is_integer())},
                              {"listening", list_of(is_text()), false},
                              {"waits_for", is_text(), false}};
  for (const std::string& what : kSourceCounters) members.push_back({what.c_str(), is_integer()});
  return object_of(members);
}

Json step_schema() {
  return with(
      counts({"in", "out", "dropped", "failed", "missed", "gave_up", "about_bytes_in", "about_bytes_out",
              "nanoseconds_each"}),
      {{"step", is_text()},
       {"name", is_text()},
       {"off", is_boolean(), false},
       {"created", is_integer(), false},
       {"merged", is_integer(), false},
       {"memory", counts({"entries", "bytes", "most_bytes", "held"}), false},
       {"templates", list_of(with(counts({"matched", "too_expensive"}), {{"template", is_text()}})), false}});
}

Json pipeline_schema() {
  return with(counts({"in", "matched", "unmatched", "dropped", "merged", "created", "held", "given_up",
                      "early", "passed_around", "out", "unrouted", "bytes_in", "bytes_out",
                      "implausible_times", "fields_left_out", "values_as_text"}),
              {{"name", is_text()}, {"steps", list_of(step_schema())}});
}

Json destination_schema() {
  return with(
      counts({"in",      "sent",          "elsewhere",       "apart",          "bytes_in",      "bytes_out",
              "waiting", "waiting_bytes", "set_aside",       "restored",       "damaged",       "unknown",
              "retried", "replaced",      "removed_indexes", "removed_events", "erased_events", "shed",
              "letters", "letters_lost"}),
      {{"name", is_text()},
       {"kind", is_text()},
       {"stored", or_null(is_integer())},
       {"oldest_waiting_seconds", is_number()},
       {"letters_by_reason", list_of(with(counts({"letters"}), {{"reason", is_text()}}))},
       {"in_per_second", is_number()},
       {"out_per_second", is_number()},
       {"drained_in_seconds", or_null(is_number())},
       {"lag_seconds", is_number()},
       {"latency_seconds", object_of({{"p50", is_number()}, {"p99", is_number()}})},
       {"events_at_once", or_null(is_integer())},
       {"failing", is_boolean()},
       {"circuit", {{"enum", {"closed", "open", "half_open"}}}},
       {"reason", is_text()},
       {"since", or_null(is_moment())},
       {"next_try", or_null(is_moment())},
       {"last_accepted", or_null(is_moment())}});
}

}  // namespace

Json status_schema() {
  return object_of(
      {{"time", is_moment()},
       {"started", is_moment()},
       {"configuration", is_text()},
       {"paused", is_boolean()},
       {"sources", list_of(source_schema())},
       {"pipelines", list_of(pipeline_schema())},
       {"destinations", list_of(destination_schema())},
       {"balance", list_of(with(counts({"in", "accounted_for"}), {{"stage", is_text()}}))},
       {"balanced", is_boolean()},
       {"spool", counts({"bytes", "segments", "epoch", "failed_syncs", "damaged_records", "cut_bytes"})},
       {"problems",
        list_of(with(
            counts({"times"}),
            {{"about", is_text()}, {"text", is_text()}, {"since", is_moment()}, {"last", is_moment()}}))}});
}

}  // namespace dingle
