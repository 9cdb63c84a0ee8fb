// unique: of events with equal values in some fields, one in a time.
#include <algorithm>
#include <cstdlib>

#include "core/steps/keyed_gate.h"

namespace dingle {
namespace {

const ComponentSpec kUniqueSpec{
    "unique",
    "Lets the first event pass of those that have the same values in some fields, and drops what comes "
    "within a "
    "time of it. The time is the events' own, so that an imported file is treated as it would have been. An "
    "event that "
    "lacks one of the fields passes. What is known survives restarts and crashes.",
    "unique: { by: [booking.id, booking.state], within: 10m }",
    {{.name = "by",
      .type = OptionType::fields,
      .text = "The fields whose values are compared.",
      .required = true},
     {.name = "within",
      .type = OptionType::duration,
      .fallback = "10m",
      .text = "How far from the one that passed, by the events' time, another one is dropped.",
      .least = 1},
     {.name = "longest",
      .type = OptionType::duration,
      .fallback = "1h",
      .text =
          "How long a value is remembered after it was last seen, by the clock; not shorter than `within`.",
      .least = 1'000'000'000},
     {.name = "most_keys",
      .type = OptionType::integer,
      .fallback = "100000",
      .text =
          "How many are remembered; those that were not seen for longest are forgotten early, and counted.",
      .least = 1,
      .most = 500'000}}};

class Unique final : public KeyedGate {
 public:
  std::int64_t within = 0;

  std::string meaning() const override {
    std::string text = "unique 1";
    for (const std::string& field : by_names) text += " " + field;
    return text;
  }

 protected:
  bool needs_all() const override { return true; }
  // It remembers the last that passed of each course of events: what comes live goes on from the newest, and a file of
  // last week from the last that passed of that week.
  bool passes(const Event& event, Numbers& passed) const override {
    std::int64_t* before = nullptr;
    for (std::int64_t& last : passed.all()) {
      std::int64_t distance = 0;
      if (!__builtin_sub_overflow(event.timestamp, last, &distance) && distance > -within &&
          distance < within)
        return false;
      if (last <= event.timestamp && (before == nullptr || last > *before)) before = &last;
    }
    if (before == nullptr && passed.full()) before = &*std::ranges::min_element(passed.all());
    if (before != nullptr)
      *before = event.timestamp;
    else
      passed.add(event.timestamp);
    return true;
  }
};

std::unique_ptr<Step> make_unique(const StepMaking& m) {
  auto step = std::make_unique<Unique>();
  step->by_names = m.options.texts("by");
  for (const std::string& name : step->by_names) step->by.push_back(field_id(name));
  step->within = m.options.number("within");
  step->longest = std::max(m.options.number("longest"), step->within);
  step->most_keys = static_cast<std::uint64_t>(m.options.number("most_keys"));
  if (step->by_names.empty()) {
    m.findings.error(m.options.where("by"), "`by` names no field", "name those whose values are compared");
    return nullptr;
  }
  return step;
}

const StepRegistration unique_step({kUniqueSpec, make_unique, true, true});

}  // namespace
}  // namespace dingle
