// time: a field becomes the event's timestamp.
#include <optional>

#include "core/steps/step.h"
#include "core/template/template.h"
#include "core/time/zone.h"

namespace dingle {
namespace {

const ComponentSpec kTimeSpec{
    "time",
    "Takes the event's timestamp from a field: a timestamp that a template captured, a text in any common "
    "form, or a number of seconds (milli-, micro-, nanoseconds) "
    "since 1970. Events without the field keep the time at which they were read. What is no time stays in "
    "its field and is counted.",
    "time: { field: at, zone: Europe/Stockholm }",
    {{.name = "field", .type = OptionType::field, .text = "The field that holds the time.", .required = true},
     {.name = "zone",
      .type = OptionType::zone,
      .text = "The zone of times that name none: a name of the tz database, or an offset such as +02:00. "
              "Without it "
              "the source's zone, else UTC."},
     {.name = "keep", .type = OptionType::boolean, .fallback = "false", .text = "Keep the field as well."}}};

class Time final : public Step {
 public:
  FieldId field = kNoField;
  std::optional<Zone> zone;
  bool keep = false;

  void follow(StepFields& fields) const override {
    fields.reads("field", field_name(field));
    if (!keep) fields.there.take_away(field_name(field));
  }
  void run(Batch& batch, StepTally& tally) const override {
    each(batch, tally, [&](Event& event) {
      const Field* f = event.find(field);
      if (f == nullptr) {
        ++tally.out;
        return;
      }
      const Value v = f->value.kind() == Kind::timestamp ? f->value : converted(batch, event, f->value);
      if (v.kind() != Kind::timestamp) return fail_at(batch, event, tally);
      event.timestamp = v.zoneless() ? (zone ? *zone : batch.zone).to_utc(v.as_integer()) : v.as_integer();
      if (!keep) event.erase(batch.arena, f);
      ++tally.out;
    });
  }

 private:
  // Out of the loop, which is to stay small.
  [[gnu::noinline]] static Value converted(Batch& batch, const Event& event, const Value& v) {
    if (!v.is_number() && v.kind() != Kind::text) return v;
    const std::string_view text = v.is_number() ? batch.arena.copy(v.to_string()) : v.as_text();
    return convert_text(text, Kind::timestamp, {&batch.arena, event.observed});
  }
  [[gnu::noinline]] void fail_at(Batch& batch, Event& event, StepTally& tally) const {
    fail(batch, event, tally, "the field " + std::string(field_name(field)) + " holds no time");
  }
};

std::unique_ptr<Step> make_time(const StepMaking& m) {
  auto step = std::make_unique<Time>();
  const std::string& field = m.options.text("field");
  if (belongs_to_event(field)) {
    m.findings.error(m.options.where("field"),
                     "`" + field + "` is a part of every event, not a field of its own",
                     "a JSON member or a pair of that name is the field `line." + field +
                         "`; a template captures the time under another name, such as `at`");
    return nullptr;
  }
  step->field = field_id(field);
  step->keep = m.options.flag("keep");
  if (const Node* node = m.options.node("zone")) {
    auto zone = Zone::named(m.options.text("zone"));
    if (!zone) {
      m.findings.error_within(*node, zone.problem());
      return nullptr;
    }
    step->zone = *zone;
  }
  return step;
}

const StepRegistration time_step({kTimeSpec, make_time});

}  // namespace
}  // namespace dingle
