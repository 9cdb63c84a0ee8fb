// Answers in JSON.
#pragma once

#include <string>

#include "agent/json.h"
#include "server/api.h"

namespace dingle {

inline HttpAnswer json_answer(const Json& json) { return {200, "application/json", dump(json)}; }

// Problem details with further members.
inline HttpAnswer json_problem(int status, const std::string& detail, Json members,
                               const std::string& hint = "") {
  members["title"] = reason_phrase(status);
  members["status"] = status;
  members["detail"] = detail;
  if (!hint.empty()) members["hint"] = hint;
  return {status, "application/problem+json", dump(members)};
}

}  // namespace dingle
