// pace: at most so many events in a time. It remembers how many passed in each part of time.
#include "core/steps/keyed_gate.h"

namespace dingle {
namespace {

const ComponentSpec kPaceSpec{
    "pace",
    "Lets at most so many events pass in each part of time, for each value of some fields, and drops the "
    "others, counted. The "
    "time is the events' own, cut into equal parts, so that an imported file is treated as it would have "
    "been, and events that "
    "come late count where they belong. Events that lack a field of `by` are counted together. What is known "
    "survives restarts "
    "and crashes. Costs a look-up for each event, one after another.",
    "pace: { by: [service.name, error.type], most: 100, each: 1m }",
    {{.name = "by",
      .type = OptionType::fields,
      .text = "For each value of these on its own; for all together if it is not given."},
     {.name = "most", .type = OptionType::integer, .text = "How many pass.", .required = true, .least = 1},
     {.name = "each",
      .type = OptionType::duration,
      .fallback = "1m",
      .text = "How long a part of time is.",
      .least = 1'000'000},
     {.name = "longest",
      .type = OptionType::duration,
      .fallback = "1h",
      .text =
          "How long a part is remembered after its last event came, by the clock; not shorter than `each`.",
      .least = 1'000'000'000},
     {.name = "most_keys",
      .type = OptionType::integer,
      .fallback = "100000",
      .text = "How many counts are kept; those that were not needed for longest are forgotten early, and "
              "counted.",
      .least = 1,
      .most = 500'000}}};

class Pace final : public KeyedGate {
 public:
  std::int64_t most = 0, each_time = 0;

  std::string meaning() const override {
    std::string text = "pace 1 " + std::to_string(each_time);
    for (const std::string& field : by_names) text += " " + field;
    return text;
  }

 protected:
  bool needs_all() const override { return false; }
  void add_to_key(const Event& event, ByteWriter& out) const override {
    const std::int64_t t = event.timestamp;
    out.zigzag(t / each_time - (t % each_time < 0));
  }
  bool passes(const Event&, Numbers& remembered) const override {
    if (remembered.all().empty()) remembered.add(0);
    return remembered.all()[0] < most && ++remembered.all()[0];
  }
};

std::unique_ptr<Step> make_pace(const StepMaking& m) {
  auto step = std::make_unique<Pace>();
  step->by_names = m.options.texts("by");
  for (const std::string& name : step->by_names) step->by.push_back(field_id(name));
  step->most = m.options.number("most");
  step->each_time = m.options.number("each");
  step->longest = std::max(m.options.number("longest"), step->each_time);
  step->most_keys = static_cast<std::uint64_t>(m.options.number("most_keys"));
  return step;
}

const StepRegistration pace_step({kPaceSpec, make_pace, true, true});

}  // namespace
}  // namespace dingle
