// retype: gives values another type.
#include <cmath>

#include "core/nearest.h"
#include "core/steps/step.h"
#include "core/template/template.h"

namespace dingle {
namespace {

const ComponentSpec kRetypeSpec{
    "retype",
    "Gives values another type: text, int, decimal, boolean, timestamp or ip. A value that cannot be of that "
    "type stays as "
    "it is, and its event is counted as failed. A field that an event does not have is no failure. A whole "
    "decimal "
    "becomes an int; others do not.",
    "retype: { fields: { load_kg: int, ticket: text } }",
    {{.name = "fields", .type = OptionType::values, .text = "Fields and their types.", .required = true}}};

class Retype final : public Step {
 public:
  std::vector<std::pair<FieldId, Kind>> all;

  void follow(StepFields& fields) const override {
    for (const auto& [field, kind] : all) {
      fields.reads("fields", field_name(field));
      fields.there.become(field_name(field), kind);
    }
  }
  void run(Batch& batch, StepTally& tally) const override {
    each(batch, tally, [&](Event& event) {
      FieldId wrong = kNoField;
      Kind wanted = Kind::absent;
      for (const auto& [field, kind] : all) {
        const Field* f = event.find(field);
        if (f == nullptr || f->value.kind() == kind) continue;
        const Value made = converted(batch, event, f->value, kind);
        if (!made.absent())
          event.set(batch.arena, field, made);
        else if (wrong == kNoField)
          wrong = field, wanted = kind;
      }
      if (wrong != kNoField)
        return fail(
            batch, event, tally,
            "the field " + std::string(field_name(wrong)) + " is no " + std::string(kind_name(wanted)));
      ++tally.out;
    });
  }

 private:
  static Value converted(Batch& batch, const Event& event, const Value& v, Kind kind) {
    constexpr double kLargest = 9007199254740992.0;  // 2^53: up to there every whole number is a decimal
    if (v.kind() == Kind::integer && kind == Kind::decimal)
      return Value::decimal(static_cast<double>(v.as_integer()));
    if (v.kind() == Kind::decimal && kind == Kind::integer)
      return v.as_decimal() == std::floor(v.as_decimal()) && std::abs(v.as_decimal()) <= kLargest
                 ? Value::integer(static_cast<std::int64_t>(v.as_decimal()))
                 : Value();
    const std::string_view text = v.is_textual() ? v.as_text() : batch.arena.copy(v.to_string());
    const Value made = convert_text(text, kind, {&batch.arena, event.observed});
    return made.kind() == Kind::timestamp && made.zoneless()
               ? Value::timestamp(batch.zone.to_utc(made.as_integer()))
               : made;
  }
};

std::unique_ptr<Step> make_retype(const StepMaking& m) {
  auto step = std::make_unique<Retype>();
  bool ok = true;
  for (const auto& entry : m.options.tree("fields").entries) {
    const Kind kind = kind_named(entry.value.scalar);
    if (kind == Kind::absent) {
      const std::string near = did_you_mean(entry.value.scalar, kind_names());
      m.findings.error(entry.value, "there is no type `" + entry.value.scalar + "`",
                       near.empty() ? one_of(kind_names()) : near);
      ok = false;
    }
    if (is_part_of_event(field_id(entry.key)) || belongs_to_event(entry.key)) {
      m.findings.error(entry.key_place, entry.key.size(),
                       "`" + entry.key + "` belongs to the event itself: its type is fixed",
                       "name another field");
      ok = false;
    }
    step->all.emplace_back(field_id(entry.key), kind);
  }
  if (!ok) return nullptr;
  return step;
}

const StepRegistration retype_step({kRetypeSpec, make_retype});

}  // namespace
}  // namespace dingle
