// rename: gives fields another name.
#include "core/steps/step.h"

namespace dingle {
namespace {

const ComponentSpec kRenameSpec{
    "rename",
    "Gives fields another name; their values stay. A field that an event lacks is no error; a field that has "
    "the new name already is replaced.",
    "rename: { fields: { ship: vessel.name, ts: at } }",
    {{.name = "fields", .type = OptionType::renames, .text = "Old names and new names.", .required = true}}};

class Rename final : public Step {
 public:
  std::vector<std::pair<FieldId, FieldId>> pairs;
  void follow(StepFields& fields) const override {
    for (const auto& [from, to] : pairs) {
      fields.reads("fields", field_name(from));
      const Kind kind = fields.there.kind_of(field_name(from));
      fields.there.take_away(field_name(from));
      fields.there.add(field_name(to), kind);
    }
  }
  void run(Batch& batch, StepTally& tally) const override {
    each(batch, tally, [&](Event& event) {
      for (auto [from, to] : pairs) {
        const Field* f = event.find(from);
        if (f == nullptr) continue;
        Value value = f->value;
        event.erase(batch.arena, from);
        if (to == names::body)
          event.body = value.is_textual() ? value.as_text() : batch.arena.copy(value.to_string());
        else
          event.set(batch.arena, to, value);
      }
      ++tally.out;
    });
  }
};

std::unique_ptr<Step> make_rename(const StepMaking& m) {
  auto step = std::make_unique<Rename>();
  for (const auto& entry : m.options.tree("fields").entries) {
    if (!writable_field(m, entry.value, entry.value.scalar)) return nullptr;
    step->pairs.emplace_back(field_id(entry.key), field_id(entry.value.scalar));
  }
  return step;
}

const StepRegistration rename_step({kRenameSpec, make_rename});

}  // namespace
}  // namespace dingle
