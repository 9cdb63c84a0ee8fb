// Answers in JSON.
#pragma once

#include <string>
#include <utility>

#include "agent/json.h"
#include "server/api.h"

namespace dingle {

inline HttpAnswer json_answer(const Json& json) { return {200, "application/json", dump(json)}; }

// The list of an answer, which takes no more than so many bytes, and says so.
class AnswerList {
 public:
  static constexpr std::size_t kMostBytes = 64u << 20;
  // Whether there is room for one of about so many bytes; once there is none, none is taken any more.
  bool room(std::size_t bytes) {
    cut_ = cut_ || bytes > kMostBytes - taken_;
    if (!cut_) taken_ += bytes;
    return !cut_;
  }
  void add(Json item) { items_.push_back(std::move(item)); }
  Json take() { return std::move(items_); }
  // Behind what else is answered: a member `cut_at_bytes`, if something was left out.
  Json with_cut(Json root) const {
    if (cut_) root["cut_at_bytes"] = kMostBytes;
    return root;
  }

 private:
  Json items_ = Json::array();
  std::size_t taken_ = 0;
  bool cut_ = false;
};

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
