// cut: shortens a text at literal texts in it.
#include "core/steps/step.h"

namespace dingle {
namespace {

const ComponentSpec kCutSpec{
    "cut",
    "Shortens a text: what stands before `from` goes, and what stands behind `up_to`. Where one of them is "
    "not in "
    "the text, the text stays as it is, and that is counted as missed. Costs one search for each.",
    "cut: { field: message, from: 'reason=', up_to: ';' }",
    {{.name = "field", .type = OptionType::field, .fallback = "body", .text = "The text that is shortened."},
     {.name = "from", .type = OptionType::text, .text = "The text with which what stays begins."},
     {.name = "up_to",
      .type = OptionType::text,
      .text = "The text before which it ends; looked for behind `from`."},
     {.name = "occurrence",
      .type = OptionType::choice,
      .fallback = "first",
      .text = "Where they stand several times: at which of these.",
      .choices = {"first", "last"}},
     {.name = "with_literals",
      .type = OptionType::boolean,
      .fallback = "false",
      .text = "Keep `from` and `up_to` themselves."}}};

class Cut final : public Step {
 public:
  FieldId field = names::body;
  std::string from, up_to;
  bool last = false, with_literals = false;

  void follow(StepFields& fields) const override { fields.reads("field", field_name(field)); }
  void run(Batch& batch, StepTally& tally) const override {
    each(batch, tally, [&](Event& event) {
      ++tally.out;
      const Value input = field == names::body ? Value::text(event.body) : batch.get(event, field);
      if (!input.is_textual()) {
        ++tally.missed;
        return;
      }
      std::string_view text = input.as_text();
      if (!shorten(text)) {
        ++tally.missed;
        return;
      }
      if (field == names::body)
        event.body = text;
      else
        event.set(batch.arena, field, Value::text(text));
    });
  }

 private:
  std::size_t find(std::string_view text, const std::string& literal) const {
    return last ? text.rfind(literal) : text.find(literal);
  }
  // False, and the text as it was, where a literal is missing.
  bool shorten(std::string_view& text) const {
    std::string_view rest = text;
    std::size_t begin = 0;
    if (!from.empty()) {
      const std::size_t at = find(rest, from);
      if (at == std::string_view::npos) return false;
      begin = with_literals ? at : at + from.size();
      rest.remove_prefix(at + from.size());
    }
    std::size_t end = text.size();
    if (!up_to.empty()) {
      const std::size_t at = find(rest, up_to);
      if (at == std::string_view::npos) return false;
      end = text.size() - rest.size() + at + (with_literals ? up_to.size() : 0);
    }
    text = text.substr(begin, end - begin);
    return true;
  }
};

std::unique_ptr<Step> make_cut(const StepMaking& m) {
  auto step = std::make_unique<Cut>();
  const std::string& field = m.options.text("field");
  if (!writable_field(m, m.options.where("field"), field)) return nullptr;
  step->field = field_id(field);
  step->from = m.options.text("from");
  step->up_to = m.options.text("up_to");
  step->last = m.options.text("occurrence") == "last";
  step->with_literals = m.options.flag("with_literals");
  if (step->from.empty() && step->up_to.empty()) {
    m.findings.error(m.options.place(), 1, "`cut` has neither `from` nor `up_to`",
                     "for instance: cut: { field: message, up_to: ' at ' }");
    return nullptr;
  }
  return step;
}

const StepRegistration cut_step({kCutSpec, make_cut});

}  // namespace
}  // namespace dingle
