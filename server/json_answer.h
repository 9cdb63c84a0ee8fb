// Answers in JSON.
#pragma once

#include "agent/json.h"
#include "server/api.h"

namespace dingle {

inline ApiAnswer json_answer(const Json& json) { return {200, "application/json", dump(json), nullptr}; }

}  // namespace dingle
