// omit: takes fields away.
#include "core/steps/field_list.h"
#include "core/steps/step.h"

namespace dingle {
namespace {

const ComponentSpec kOmitSpec{
    "omit",
    "Takes fields away. `body` may be among them: the event then has an empty body. A field that an event "
    "does "
    "not have is no failure, unless `strict` asks for it.",
    "omit: { fields: [url.query, load.*] }",
    {{.name = "fields",
      .type = OptionType::field_patterns,
      .text = "The fields to take away; `*` stands for any text.",
      .required = true},
     {.name = "strict",
      .type = OptionType::boolean,
      .fallback = "false",
      .text =
          "An event that lacks a field that is named without `*` is counted as failed; the others are taken "
          "away all the same."}}};

class Omit final : public Step {
 public:
  explicit Omit(const std::vector<std::string>& written) : fields(written) {}
  const FieldList fields;
  bool strict = false;

  void follow(StepFields& at) const override {
    for (const FieldId field : fields.names()) {
      at.reads("fields", field_name(field));
      at.there.take_away(field_name(field));
    }
    for (const std::string& glob : fields.globs())
      for (const std::string& own : at.there.own())
        if (matches_glob(own, glob)) at.there.take_away(own);
  }
  void run(Batch& batch, StepTally& tally) const override {
    each(batch, tally, [&](Event& event) {
      FieldId missing = kNoField;
      for (const FieldId field : fields.names()) {
        if (field == names::body)
          event.body = {};
        else if (!event.erase(batch.arena, field) && missing == kNoField)
          missing = field;
      }
      if (!fields.globs().empty()) erase_others(batch, event);
      if (strict && missing != kNoField)
        return fail(batch, event, tally, "there is no field " + std::string(field_name(missing)));
      ++tally.out;
    });
  }

 private:
  void erase_others(Batch& batch, Event& event) const {
    for (std::size_t i = event.field_count; i-- > 0;)
      if (!belongs_to_event(field_name(event.fields[i].name)) && fields.has(event.fields[i].name))
        event.erase(batch.arena, &event.fields[i]);
  }
};

std::unique_ptr<Step> make_omit(const StepMaking& m) {
  auto step = std::make_unique<Omit>(m.options.texts("fields"));
  step->strict = m.options.flag("strict");
  return step;
}

const StepRegistration omit_step({kOmitSpec, make_omit});

}  // namespace
}  // namespace dingle
