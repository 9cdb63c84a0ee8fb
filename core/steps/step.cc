#include "core/steps/step.h"

#include <algorithm>

namespace dingle {
namespace {

std::vector<StepKind>& registered() {
  static std::vector<StepKind> all;
  return all;
}

}  // namespace

void StepTally::add(const StepTally& o) {
  in += o.in, created += o.created, out += o.out, merged += o.merged, dropped += o.dropped,
      failed += o.failed, nanoseconds += o.nanoseconds, fields_left_out += o.fields_left_out;
  auto add_each = [](std::vector<std::uint64_t>& to, const std::vector<std::uint64_t>& from) {
    if (to.size() < from.size()) to.resize(from.size());
    for (std::size_t i = 0; i < from.size(); ++i) to[i] += from[i];
  };
  add_each(matched, o.matched);
  add_each(expensive, o.expensive);
}

bool EventReader::any_text(const std::function<bool(std::string_view)>& test) const {
  if (test(event_.body)) return true;
  for (auto fields : {event_.all(), batch_.resource})
    for (const Field& f : fields)
      if (f.value.is_textual() && test(f.value.as_text())) return true;
  return false;
}

StepRegistration::StepRegistration(StepKind kind) {
  // Every step may say which events it works on, unless it has a condition by that name as its very business.
  auto& options = kind.spec.options;
  if (std::none_of(options.begin(), options.end(),
                   [](const OptionSpec& o) { return std::string_view(o.name) == "where"; }))
    options.push_back({.name = "where",
                       .type = OptionType::condition,
                       .text = "Only for events for which this condition holds; the others pass unchanged."});
  auto& all = registered();
  all.insert(std::upper_bound(all.begin(), all.end(), kind,
                              [](const StepKind& a, const StepKind& b) { return a.spec.name < b.spec.name; }),
             std::move(kind));
}

const std::vector<StepKind>& step_kinds() { return registered(); }

const StepKind* step_kind(std::string_view name) {
  for (const StepKind& kind : registered())
    if (kind.spec.name == name) return &kind;
  return nullptr;
}

}  // namespace dingle
