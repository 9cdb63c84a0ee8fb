// What a configuration says of hiding: keys, and what becomes of lines that could not be taken apart.
#pragma once

#include <memory>
#include <string>

#include "agent/configuration.h"

namespace dingle {

// Tells the steps of a pipeline that hide what to do with lines that were not taken apart, and says what is wrong.
void settle_hiding(const Options& pipeline_options, const Options& server, const Node& at, Pipeline& pipeline,
                   Findings& findings, const StepMaking::SealingOf& sealing);

// Tells of pipelines that store lines as they are which another one hides.
void check_hiding(const Configuration& configuration, const Node& pipelines, Findings& findings);

// Why a key that the configuration needs cannot be read, or "".
std::string missing_key(const Configuration& configuration);
// Of steps that hide, those that are switched off: "pipeline gate: mask", ...
std::vector<std::string> hiding_switched_off(const Configuration& configuration);
// Whether a pipeline that hides takes lines of the source.
bool is_hidden(const Configuration& configuration, const std::string& source);

// Where `after` may hide less than `before`: any change of what a pipeline that hides takes and does up to its last step that hides,
// of who takes its lines, and any source that comes new and is not hidden; "" if there is none.
std::string hides_less(const Configuration& before, const Configuration& after);

}  // namespace dingle
