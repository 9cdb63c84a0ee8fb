// parse: templates, tried in order; the first that matches the line gives its fields.
#include "core/steps/step.h"
#include "core/template/template.h"

namespace dingle {
namespace {

const ComponentSpec kSpec{
    "parse",
    "Takes a text apart with templates. They are tried in order, and the first that matches gives the event "
    "its fields. An event that none matches is kept as it "
    "is, marked with `dingle.unmatched` and `dingle.unmatched.column`, and counted.",
    "parse:\n  templates:\n    - '{client.address:ip} {status:int}'\n    - '{message}'",
    {{.name = "templates",
      .type = OptionType::templates,
      .text = "The templates, in the order in which they are tried.",
      .required = true},
     {.name = "field", .type = OptionType::field, .fallback = "body", .text = "The field to take apart."}}};

class Parse final : public Step {
 public:
  FieldId field = names::body;
  std::vector<std::shared_ptr<const Template>> all;

  std::size_t templates() const override { return all.size(); }

  void run(Batch& batch, StepTally& tally) const override {
    tally.matched.resize(all.size());
    std::size_t most = 0;
    for (const auto& t : all) most = std::max(most, t->slots().size());
    std::vector<Value> values(most);
    each(batch, tally, [&](Event& event) {
      MatchContext context{&batch.arena, event.observed};
      Value input = field == names::body ? Value::text(event.body) : batch.get(event, field);
      if (input.absent()) {
        ++tally.out;  // nothing to take apart is no failure
        return;
      }
      std::string holder;
      std::string_view text =
          input.is_textual() ? input.as_text() : batch.arena.copy(holder = input.to_string());
      for (std::size_t i = 0; i < all.size(); ++i) {
        if (!all[i]->match(text, context, values.data())) continue;
        ++tally.matched[i];
        ++tally.out;
        event.template_number = static_cast<std::uint16_t>(i + 1);
        take(batch, event, *all[i], values.data());
        return;
      }
      mark(batch, event, text, context);
      ++tally.failed;
    });
  }

 private:
  static void take(Batch& batch, Event& event, const Template& t, const Value* values) {
    const auto& slots = t.slots();
    const bool fresh = event.field_count == 0;  // then no name can be there already
    event.reserve(batch.arena, slots.size());
    for (std::size_t i = 0; i < slots.size(); ++i) {
      if (values[i].absent()) continue;
      if (slots[i].field == names::body)
        event.body = values[i].as_text();
      else if (fresh && event.field_count < event.field_capacity)
        event.fields[event.field_count++] = {slots[i].field, values[i]};
      else
        event.set(batch.arena, slots[i].field, values[i]);
    }
  }

  // Says where the template that came furthest failed.
  void mark(Batch& batch, Event& event, std::string_view text, const MatchContext& context) const {
    Mismatch furthest;
    for (const auto& t : all) {
      Mismatch m = t->explain(text, context);
      if (furthest.expected.empty() || m.offset > furthest.offset) furthest = std::move(m);
    }
    event.set(batch.arena, names::unmatched, Value::text(batch.arena.copy(furthest.sentence())));
    event.set(batch.arena, names::unmatched_column,
              Value::integer(static_cast<std::int64_t>(furthest.offset) + 1));
  }
};

std::unique_ptr<Step> make(const StepMaking& m) {
  auto step = std::make_unique<Parse>();
  step->field = field_id(m.options.text("field"));
  const Node* node = m.options.node("templates");
  const std::vector<std::string>& texts = m.options.texts("templates");
  bool ok = true;
  for (std::size_t i = 0; i < texts.size(); ++i) {
    const Node& at = node->is_list() ? node->items[i] : *node;
    std::vector<Problem> problems;
    auto compiled = Template::compile(texts[i], m.patterns, {}, problems);
    for (const Problem& p : problems) m.findings.error_within(at, p);
    for (std::size_t k = 0; k < i; ++k)
      if (texts[k] == texts[i])
        m.findings.warning(at,
                           "this template can never match: number " + std::to_string(k + 1) +
                               " is the same and is tried before",
                           "remove one of them");
    ok = ok && compiled;
    step->all.push_back(std::move(compiled));
  }
  if (!ok || texts.empty()) return nullptr;
  return step;
}

const StepRegistration registration({kSpec, make});

}  // namespace
}  // namespace dingle
