// set: gives fields a fixed value, or one made from other fields.
#include <charconv>
#include <cmath>

#include "core/steps/step.h"

namespace dingle {
namespace {

const ComponentSpec kSetSpec{
    "set",
    "Gives fields a value; what they held before is replaced. In a text, `{field}` stands for another "
    "field's value (nothing if the event lacks it); braces are "
    "doubled to mean themselves. Numbers, true and false without quotes keep their type.",
    "set: { fields: { service.name: ticket-gate, url.full: 'https://{host.name}{url.path}', tier: 2 } }",
    {{.name = "fields",
      .type = OptionType::values,
      .text = "The fields and their values.",
      .required = true}}};

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

  void follow(StepFields& fields) const override {
    for (const One& one : all) {
      for (const Piece& piece : one.pieces)
        if (piece.field != kNoField) fields.reads("fields", field_name(piece.field));
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
          value = Value::text(batch.arena.copy(made));
        } else if (value.kind() == Kind::text) {
          value = Value::text(one.fixed_text);
        }
        if (one.field == names::body)
          event.body = value.is_textual() ? value.as_text() : batch.arena.copy(value.to_string());
        else
          event.set(batch.arena, one.field, value);
      }
      ++tally.out;
    });
  }
};

bool parse_pieces(std::string_view text, std::vector<Set::Piece>& pieces, Problem& problem) {
  pieces.emplace_back();
  for (std::size_t i = 0; i < text.size();) {
    if (text.substr(i, 2) == "{{" || text.substr(i, 2) == "}}") {
      pieces.back().literal += text[i];
      i += 2;
    } else if (text[i] == '{') {
      std::size_t close = text.find('}', i);
      std::string name(
          text.substr(i + 1, close == std::string_view::npos ? std::string_view::npos : close - i - 1));
      if (close == std::string_view::npos || !is_field_name(name)) {
        problem = {close == std::string_view::npos ? "the brace opened here is not closed"
                                                   : "`" + name + "` is not a field's name",
                   "write {{ for a literal brace", i, 1};
        return false;
      }
      pieces.back().field = field_id(name);
      pieces.emplace_back();
      i = close + 1;
    } else if (text[i] == '}') {
      problem = {"a single `}` has nothing to close", "write }} for a literal brace", i, 1};
      return false;
    } else {
      pieces.back().literal += text[i++];
    }
  }
  return true;
}

std::unique_ptr<Step> make_set(const StepMaking& m) {
  auto step = std::make_unique<Set>();
  bool ok = true;
  for (const auto& entry : m.options.tree("fields").entries) {
    Set::One one;
    one.field = field_id(entry.key);
    const std::string& text = entry.value.scalar;
    const char* end = text.data() + text.size();
    std::int64_t integer = 0;
    double decimal = 0;
    if (auto r = std::from_chars(text.data(), end, integer);
        !entry.value.quoted && r.ec == std::errc() && r.ptr == end && !text.empty())
      one.fixed = Value::integer(integer);
    else if (auto d = std::from_chars(text.data(), end, decimal); !entry.value.quoted &&
                                                                  d.ec == std::errc() && d.ptr == end &&
                                                                  !text.empty() && std::isfinite(decimal))
      one.fixed = Value::decimal(decimal);
    else if (!entry.value.quoted && (text == "true" || text == "false"))
      one.fixed = Value::boolean(text == "true");
    else {
      Problem problem;
      if (!parse_pieces(text, one.pieces, problem)) {
        m.findings.error_within(entry.value, problem);
        ok = false;
      } else if (one.pieces.size() == 1) {
        one.fixed_text = one.pieces[0].literal;
        one.fixed = Value::text("");
      }
    }
    Node key;
    key.place = entry.key_place;
    key.scalar = entry.key;
    ok = writable_field(m, key, entry.key) && ok;
    step->all.push_back(std::move(one));
  }
  if (!ok) return nullptr;
  return step;
}

const StepRegistration set_step({kSetSpec, make_set});

}  // namespace
}  // namespace dingle
