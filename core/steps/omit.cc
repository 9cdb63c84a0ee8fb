// omit: takes fields away.
#include "core/steps/step.h"

namespace dingle {
namespace {

const ComponentSpec kOmitSpec{
    "omit",
    "Takes fields away. A field that an event lacks is no error. Omitting `body` leaves it empty.",
    "omit: { fields: [crew.name, passenger.email] }",
    {{.name = "fields", .type = OptionType::fields, .text = "The fields to take away.", .required = true}}};

class Omit final : public Step {
 public:
  std::vector<FieldId> fields;
  void follow(StepFields& at) const override {
    for (const FieldId field : fields) {
      at.reads("fields", field_name(field));
      at.there.take_away(field_name(field));
    }
  }
  void run(Batch& batch, StepTally& tally) const override {
    each(batch, tally, [&](Event& event) {
      for (FieldId field : fields) {
        if (field == names::body)
          event.body = {};
        else
          event.erase(batch.arena, field);
      }
      ++tally.out;
    });
  }
};

std::unique_ptr<Step> make_omit(const StepMaking& m) {
  auto step = std::make_unique<Omit>();
  for (const std::string& name : m.options.texts("fields")) step->fields.push_back(field_id(name));
  return step;
}

const StepRegistration omit_step({kOmitSpec, make_omit});

}  // namespace
}  // namespace dingle
