// keep: takes all fields away but some.
#include "core/steps/field_list.h"
#include "core/steps/step.h"

namespace dingle {
namespace {

const ComponentSpec kKeepSpec{"keep",
                              "Takes all fields away but these. What the program says of an event "
                              "(`dingle.unmatched` and the like) stays, and "
                              "so do time, resource, and the body, unless `body` says otherwise.",
                              "keep: { fields: [client.address, http.*], body: false }",
                              {{.name = "fields",
                                .type = OptionType::field_patterns,
                                .text = "The fields that stay; `*` stands for any text.",
                                .required = true},
                               {.name = "body",
                                .type = OptionType::boolean,
                                .fallback = "true",
                                .text = "Keep the body. Without it a line that a step before could not work "
                                        "on keeps its body all the same: "
                                        "nothing else would be left of it."}}};

class Keep final : public Step {
 public:
  explicit Keep(const std::vector<std::string>& written) : fields(written) {}
  const FieldList fields;
  bool body = true;

  void follow(StepFields& at) const override {
    FieldsThere before = at.there;
    at.there.take_any_away();
    for (const FieldId field : fields.names()) {
      at.reads("fields", field_name(field));
      if (before.has(field_name(field)) == FieldsThere::Has::may) at.there.add_any(field_name(field));
    }
    for (const std::string& glob : fields.globs())
      if (const std::string prefix = glob.substr(0, glob.find('*'));
          before.has(prefix) == FieldsThere::Has::may)
        at.there.add_any(prefix);
    for (const std::string& own : before.own())
      if (!fields.has(field_id(own))) at.there.take_away(own);
  }
  void run(Batch& batch, StepTally& tally) const override {
    each(batch, tally, [&](Event& event) {
      for (std::size_t i = event.field_count; i-- > 0;)
        if (const FieldId of = event.fields[i].name; !fields.has(of) && !belongs_to_event(field_name(of)))
          event.erase(batch.arena, &event.fields[i]);
      if (!body && event.failed_step == 0) event.body = {};
      ++tally.out;
    });
  }
};

std::unique_ptr<Step> make_keep(const StepMaking& m) {
  auto step = std::make_unique<Keep>(m.options.texts("fields"));
  step->body = m.options.flag("body");
  return step;
}

const StepRegistration keep_step({kKeepSpec, make_keep});

}  // namespace
}  // namespace dingle
