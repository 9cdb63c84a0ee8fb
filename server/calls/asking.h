// What calls that ask the stores have in common.
#pragma once

#include <memory>
#include <vector>

#include "agent/engine/stored_choice.h"
#include "server/calls/call.h"
#include "store/search.h"

namespace dingle {

struct OpenStores {
  std::vector<std::shared_ptr<Store>> owners;
  std::vector<const Store*> stores;
};

// Those of the destination that is asked for, or all. Refuses a name that no index has.
OpenStores stores(Api& api, const Asked& asked);
// What the calls take that start jobs with stored events; of their `dry` that text.
std::vector<OptionSpec> parameters_of_choice(const char* dry);
// Starts the job, of the one kind or the other. The condition is in its words if it may be told. Throws Refused.
HttpAnswer start_with_choice(Api& api, const Asked& asked, const char* kind, const char* dry_kind,
                             bool tells_condition);
StoredChoice choice_in(const Json& request);  // of such a job
// Parameters behind those of every question.
std::vector<OptionSpec> with_query(std::vector<OptionSpec> more);
// A value of an event, and its schema.
Json value_json(const Value& v);
Json value_schema();
// What was read for an answer, and what went wrong; and its schema.
Json scanned_json(const Scanned& s);
Json scanned_schema();

// The same for a job that found nothing in the store of a destination: a list of texts.
Json reasons_of_nothing(Engine& engine, const std::string& destination, const Query& query);
// Says of fields that nothing has why nothing was found: they may be misspelt. `scanned`: as answered.
void explain(Json& scanned, const OpenStores& held, const Query& query, const std::vector<FieldId>& fields);

}  // namespace dingle
