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
      failed += o.failed, nanoseconds += o.nanoseconds, fields_left_out += o.fields_left_out,
      values_as_text += o.values_as_text, stood_for += o.stood_for, early += o.early,
      passed_around += o.passed_around, measured += o.measured, bytes_in += o.bytes_in,
      bytes_out += o.bytes_out, missed += o.missed, gave_up += o.gave_up, unbalanced += o.unbalanced;
  auto add_each = [](std::vector<std::uint64_t>& to, const std::vector<std::uint64_t>& from) {
    if (to.size() < from.size()) to.resize(from.size());
    for (std::size_t i = 0; i < from.size(); ++i) to[i] += from[i];
  };
  add_each(matched, o.matched);
  add_each(expensive, o.expensive);
}

void Step::fail(Batch& batch, Event& event, StepTally& tally, std::string_view why,
                std::size_t column) const {
  ++tally.failed;
  if (event.failed_step != 0) return;
  event.failed_step = number;
  if (event.find(names::unmatched)) return;  // by a pipeline before this one
  event.set(batch.arena, names::unmatched,
            Value::text(batch.arena.copy(kind == "parse" ? why : kind + ": " + std::string(why))));
  if (column != 0)
    event.set(batch.arena, names::unmatched_column, Value::integer(static_cast<std::int64_t>(column)));
}

bool EventReader::any_text(const std::function<bool(std::string_view)>& test) const {
  if (test(event_.body)) return true;
  for (auto fields : {event_.all(), batch_.resource_of(event_)})
    for (const Field& f : fields)
      if (f.value.is_textual() && test(f.value.as_text())) return true;
  return false;
}

bool writable_field(const StepMaking& m, const Node& node, std::string_view name) {
  if (name == "body" || !belongs_to_event(name)) return true;
  m.findings.error(node, "`" + std::string(name) + "` belongs to the event itself: no step writes it",
                   name.ends_with("timestamp")
                       ? "the step `time` sets the event's time from a field of another name"
                       : "give the field another name");
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
  options.push_back(
      {.name = "name", .type = OptionType::text, .text = "A name of its own, for what is told of it."});
  options.push_back(
      {.name = "off",
       .type = OptionType::boolean,
       .fallback = "false",
       .text = "Let everything pass as if the step were not there; it is shown as off. What a step with "
               "memory holds is sent first."});
  if (kind.has_memory)
    options.push_back({.name = "was",
                       .type = OptionType::text,
                       .text = "Its former name, or its kind if it had none: it goes on with what that one "
                               "remembers, if it means the same."});
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
