// drop: takes events away, counted.
#include "core/steps/step.h"

namespace dingle {
namespace {

const ComponentSpec kDropSpec{
    "drop",
    "Takes away the events for which the condition holds. They are counted under this step.",
    "drop: { where: \"status < 400 and url.path like '/health%'\" }",
    {{.name = "where",
      .type = OptionType::condition,
      .text = "Which events to take away.",
      .required = true}}};

class Drop final : public Step {
 public:
  void run(Batch& batch, StepTally& tally) const override {
    each(batch, tally, [&](Event& event) {
      event.dropped_by = number;
      ++tally.dropped;
    });
  }
  std::string stops_everything() const override {
    return where && where->text() == "true" ? "it drops every event" : "";
  }
};

const StepRegistration registration({kDropSpec, [](const StepMaking&) -> std::unique_ptr<Step> {
                                       return std::make_unique<Drop>();
                                     }});

}  // namespace
}  // namespace dingle
