// json: a JSON object in a text becomes fields.
#include "core/json_fields.h"
#include "core/steps/step.h"
#include "core/template/lexemes.h"

namespace dingle {
namespace {

const ComponentSpec kJsonSpec{
    "json",
    "Reads a JSON object (RFC 8259) and makes its members fields; members of inner objects get names with "
    "dots, lists are kept as lists. Null members are left out. Numbers beyond 64 bits stay as they are "
    "written, as texts, and "
    "are counted. A member that has a name of the event's own (`body`, `timestamp`, `observed_timestamp`, "
    "`dingle.…`), or of a "
    "field of its source, becomes `line.NAME`. Deeper than 128 levels is no JSON here. "
    "What is no JSON object is kept as it is, marked with `dingle.unmatched`, and counted.",
    "json: { field: body }",
    {{.name = "field",
      .type = OptionType::field,
      .fallback = "body",
      .text = "The field that holds the JSON text."},
     {.name = "prefix", .type = OptionType::text, .text = "Put before each name, for instance `payload.`."},
     {.name = "depth",
      .type = OptionType::integer,
      .fallback = "8",
      .text = "How deep inner objects are taken apart; deeper ones are kept as maps.",
      .least = 1,
      .most = static_cast<std::int64_t>(kDeepestJson)},
     {.name = "keep",
      .type = OptionType::boolean,
      .fallback = "true",
      .text = "Keep the field that held the text (the body always stays)."}}};

class Json final : public Step {
 public:
  FieldId field = names::body;
  std::string prefix;
  std::int64_t depth = 8;
  bool keep = true;

  void follow(StepFields& fields) const override {
    fields.reads("field", field_name(field));
    fields.there.add_any(prefix);
    if (!keep) fields.there.take_away(field_name(field));
  }
  void run(Batch& batch, StepTally& tally) const override {
    std::vector<Field> members;
    each(batch, tally, [&](Event& event) {
      const Value input = batch.get(event, field);
      if (input.absent()) {
        ++tally.out;
        return;
      }
      const std::string_view text = input.is_textual() ? input.as_text() : std::string_view();
      members.clear();
      JsonCounts counts;
      const std::string_view why =
          json_members(text, {prefix, depth, batch.readable_behind(text)}, batch.arena, members, counts);
      if (!why.empty()) return fail(batch, event, tally, why);
      tally.fields_left_out += counts.unnamed + batch.take(event, members);
      tally.values_as_text += counts.as_text;
      if (!keep && field != names::body) event.erase(batch.arena, field);
      ++tally.out;
    });
  }
  std::vector<Captured> captured(const Batch& batch, const Event& event) const override {
    std::vector<Captured> all;
    const Value input = batch.get(event, field);
    Arena arena;
    if (input.is_textual()) places(input.as_text(), prefix, 1, arena, all);
    return all;
  }

 private:
  // Of the members' values, strings without their quotes.
  void places(std::string_view text, const std::string& before, std::int64_t level, Arena& arena,
              std::vector<Captured>& to) const {
    json_each(text, arena, [&](std::string_view name, std::string_view value) {
      const std::string whole = before + std::string(name);
      if (value.starts_with('{') && level < depth)
        places(value, whole + ".", level + 1, arena, to);
      else
        to.push_back({whole, value.starts_with('"') ? value.substr(1, value.size() - 2) : value});
      return to.size() < kMostFound;
    });
  }
};

std::unique_ptr<Step> make_json(const StepMaking& m) {
  auto step = std::make_unique<Json>();
  step->field = field_id(m.options.text("field"));
  step->prefix = m.options.text("prefix");
  if (step->prefix.starts_with("dingle.")) {
    m.findings.error(m.options.where("prefix"), "names that begin with `dingle.` are the program's own", "");
    return nullptr;
  }
  step->depth = m.options.number("depth");
  step->keep = m.options.flag("keep");
  return step;
}

const StepRegistration json_step({kJsonSpec, make_json});

}  // namespace
}  // namespace dingle
