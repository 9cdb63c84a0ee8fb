// set: gives fields a fixed value, or one made from other fields.
#include "core/condition/expression.h"
#include "core/condition/functions.h"
#include "core/steps/pieces.h"
#include "core/steps/step.h"
#include "core/steps/written_value.h"

namespace dingle {
namespace {

const ComponentSpec kSetSpec{
    "set",
    "Gives fields a value; what they held before is replaced. In a text, `{field}` stands for another "
    "field's value (nothing "
    "if the event lacks it); braces are doubled to mean themselves. Numbers, true and false without quotes "
    "keep their type. "
    "Under `computed` stand value expressions of SQL, worked out in their order, each seeing what those "
    "before it made; a "
    "field whose expression comes to null goes away. What has no value, as a division by zero, is counted as "
    "failed.",
    "set: { fields: { service.name: ticket-gate, tier: 2 }, computed: { load_t: 'load_kg / 1000.0' } }",
    {{.name = "fields", .type = OptionType::values, .text = "The fields and their values."},
     {.name = "computed",
      .type = OptionType::values,
      .text = "Fields and expressions, as in docs/conditions.md; after `fields`."}}};

class Set final : public Step {
 public:
  struct Piece {
    std::string literal;
    FieldId field = kNoField;  // after the literal
  };
  struct One {
    FieldId field = kNoField;
    Value fixed;  // absent: made from the pieces
    std::string fixed_text;
    std::vector<Piece> pieces;
  };
  std::vector<One> all;
  struct Computed {
    FieldId field = kNoField;
    std::unique_ptr<Expression> expression;
  };
  std::vector<Computed> computed;

  void follow(StepFields& fields) const override {
    for (const One& one : all) {
      for (const Piece& piece : one.pieces)
        if (piece.field != kNoField) fields.reads("fields", field_name(piece.field));
      fields.there.add(field_name(one.field));
    }
    for (const Computed& one : computed) {
      for (const FieldId field : one.expression->fields()) fields.reads("computed", field_name(field));
      fields.there.add(field_name(one.field));
    }
  }
  void run(Batch& batch, StepTally& tally) const override {
    std::string made;
    each(batch, tally, [&](Event& event) {
      for (const One& one : all) {
        Value value = one.fixed;
        if (value.absent()) {
          made.clear();
          for (const Piece& piece : one.pieces) {
            made += piece.literal;
            if (piece.field != kNoField) made += batch.get(event, piece.field).to_string();
          }
          if (made.size() > kLongestMadeText) {
            made.resize(kLongestMadeText);
            ++tally.gave_up;
          }
          value = Value::text(batch.arena.copy(made));
        } else if (value.kind() == Kind::text) {
          value = Value::text(one.fixed_text);
        }
        give(batch, event, one.field, value);
      }
      compute(batch, event, tally);
    });
  }

 private:
  static void give(Batch& batch, Event& event, FieldId field, const Value& value) {
    if (field == names::body)
      event.body = value.is_textual() ? value.as_text() : batch.arena.copy(value.to_string());
    else
      event.set(batch.arena, field, value);
  }
  void compute(Batch& batch, Event& event, StepTally& tally) const {
    const Computed* wrong = nullptr;
    std::string_view why;
    for (const Computed& one : computed) {
      std::string_view fault;
      const Value value = one.expression->evaluate(EventReader(batch, event), batch.arena, fault);
      if (!value.absent())
        give(batch, event, one.field, value);
      else if (one.field != names::body)
        event.erase(batch.arena, one.field);
      if (!fault.empty() && wrong == nullptr) wrong = &one, why = fault;
    }
    if (wrong != nullptr)
      return fail(batch, event, tally,
                  std::string(field_name(wrong->field)) + " has no value: " + std::string(why));
    ++tally.out;
  }
};

bool writes(const StepMaking& m, const Node::Entry& entry) {
  Node key;
  key.place = entry.key_place;
  key.scalar = entry.key;
  return writable_field(m, key, entry.key);
}

std::unique_ptr<Step> make_set(const StepMaking& m) {
  auto step = std::make_unique<Set>();
  bool ok = true;
  for (const auto& entry : m.options.tree("computed").entries) {
    auto expression = Expression::parse(entry.value.scalar);
    if (!expression) m.findings.error_within(entry.value, expression.problem());
    ok = writes(m, entry) && expression && ok;
    if (expression)
      step->computed.push_back({field_id(entry.key), std::make_unique<Expression>(std::move(*expression))});
  }
  if (m.options.tree("fields").entries.empty() && m.options.tree("computed").entries.empty()) {
    m.findings.error(m.options.place(), 1, "`set` has neither `fields` nor `computed`",
                     "for instance: set: { fields: { tier: 2 } }");
    ok = false;
  }
  for (const auto& entry : m.options.tree("fields").entries) {
    Set::One one;
    one.field = field_id(entry.key);
    one.fixed = written_value(entry.value);
    if (one.fixed.kind() == Kind::text) {
      auto pieces = parse_pieces(entry.value.scalar);
      if (!pieces) {
        m.findings.error_within(entry.value, pieces.problem());
        ok = false;
        continue;
      }
      one.fixed = {};
      for (const TextPiece& piece : *pieces)
        one.pieces.push_back({piece.literal, piece.name.empty() ? kNoField : field_id(piece.name)});
      if (one.pieces.size() == 1) {
        one.fixed_text = one.pieces[0].literal;
        one.fixed = Value::text("");
      }
    }
    ok = writes(m, entry) && ok;
    step->all.push_back(std::move(one));
  }
  if (!ok) return nullptr;
  return step;
}

const StepRegistration set_step({kSetSpec, make_set});

}  // namespace
}  // namespace dingle
