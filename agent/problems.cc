#include "agent/problems.h"

#include <algorithm>

#include "core/time/instant.h"

namespace dingle {

void Problems::set(const std::string& about, const std::string& text) {
  std::lock_guard lock(mutex_);
  if (all_.size() >= kMost && all_.find(about) == all_.end()) return;
  Problem& p = all_[about];
  const bool news = p.text != text;
  if (p.times == 0) p.about = about, p.since = system_now();
  p.text = text;
  p.last = system_now();
  ++p.times;
  if (news) listener_(p, Said::problem);
}

void Problems::clear(const std::string& about) {
  std::lock_guard lock(mutex_);
  auto it = all_.find(about);
  if (it == all_.end()) return;
  listener_(it->second, Said::ended);
  all_.erase(it);
}

void Problems::note(const std::string& about, const std::string& text) {
  std::lock_guard lock(mutex_);
  listener_({about, text, system_now(), system_now(), 1}, Said::note);
}

void Problems::clear_with_prefix(const std::string& prefix) {
  std::lock_guard lock(mutex_);
  std::erase_if(all_, [&](const auto& entry) { return entry.first.starts_with(prefix); });
}

void Problems::mute() {
  std::lock_guard lock(mutex_);
  listener_ = [](const Problem&, Said) {};
}

std::vector<Problems::Problem> Problems::all() const {
  std::lock_guard lock(mutex_);
  std::vector<Problem> list;
  for (const auto& [about, problem] : all_) list.push_back(problem);
  std::sort(list.begin(), list.end(), [](const Problem& a, const Problem& b) { return a.since < b.since; });
  return list;
}

}  // namespace dingle
