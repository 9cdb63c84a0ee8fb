// Steps that take a text apart by one pattern of templates: csv, pairs, xml.
#pragma once

#include <memory>
#include <string>
#include <utility>
#include <vector>

#include "core/steps/step.h"
#include "core/template/template.h"

namespace dingle {

// Makes fields of what one template takes of a text as a whole.
class Structured : public Step {
 public:
  FieldId field = names::body;
  std::shared_ptr<const Template> made;

  void follow(StepFields& fields) const override {
    fields.reads("field", field_name(field));
    for (const Slot& slot : made->slots()) fields.there.add(slot.name, slot.kind);
    if (made->brings_found()) fields.there.add_any();
  }
  void run(Batch& batch, StepTally& tally) const override {
    std::vector<Value> values(made->value_count());
    std::vector<Field> found;
    each(batch, tally, [&](Event& event) {
      const Value input = batch.get(event, field);
      if (input.absent()) {
        ++tally.out;  // nothing to take apart is no failure
        return;
      }
      const std::string_view text = within(input.is_textual() ? input.as_text() : std::string_view());
      found.clear();
      const MatchContext context{
          &batch.arena,           event.observed,       &found, batch.readable_behind(text),
          &tally.fields_left_out, &tally.values_as_text};
      if (!made->match(text, context, values.data())) {
        const Mismatch why = made->explain(text, {&batch.arena, event.observed});
        return fail(batch, event, tally,
                    (field == names::body ? "" : std::string(field_name(field)) + ": ") + why.reason(),
                    why.offset + 1 + static_cast<std::size_t>(text.data() - input.as_text().data()));
      }
      for (std::size_t s = 0; s < made->slots().size(); ++s)
        if (!values[s].absent()) event.set(batch.arena, made->slots()[s].field, values[s]);
      if (!found.empty()) tally.fields_left_out += batch.take(event, found);
      ++tally.out;
    });
  }
  std::vector<Captured> captured(const Batch& batch, const Event& event) const override {
    std::vector<Captured> all;
    const Value input = batch.get(event, field);
    if (!input.is_textual()) return all;
    Arena arena;
    std::vector<Field> found;
    const std::string_view text = within(input.as_text());
    MatchContext context{&arena, event.observed};
    context.found = &found;
    std::vector<Value> values(made->value_count());
    if (!made->match(text, context, values.data())) return all;
    const auto stands_there = [&](const Value& v) {
      return v.is_textual() && v.as_text().data() >= text.data() &&
             v.as_text().data() + v.as_text().size() <= text.data() + text.size();
    };
    for (std::size_t s = 0; s < made->slots().size(); ++s)
      if (stands_there(values[s]))
        all.push_back({std::string(field_name(made->slots()[s].field)), values[s].as_text()});
    for (const Field& f : found)
      if (stands_there(f.value)) all.push_back({std::string(field_name(f.name)), f.value.as_text()});
    return all;
  }

 protected:
  // The part of a text that is taken apart.
  virtual std::string_view within(std::string_view text) const { return text; }
};

// A template of one pattern, from a step's options. Problems are told at the option `columns`.
inline bool make_structured(const StepMaking& m, Structured& step, const std::string& pattern, bool open_end,
                            const char* columns) {
  step.field = field_id(m.options.text("field"));
  std::vector<Problem> problems;
  step.made = Template::compile("{:" + pattern + "}", m.patterns, {.open_end = open_end}, problems);
  for (const Problem& p : problems) m.findings.error(m.options.where(columns), p.message, p.hint);
  if (!step.made) return false;
  for (const Slot& slot : step.made->slots())
    if (!writable_field(m, m.options.where(columns), slot.name)) return false;
  return true;
}

// A text as a parameter of a pattern.
inline std::string as_parameter(std::string_view text) {
  std::string quoted = "\"";
  for (const char c : text) quoted += c == '"' ? std::string("\"\"") : std::string(1, c);
  return quoted + "\"";
}

}  // namespace dingle
