// json: a JSON object in a text becomes fields.
#include <simdjson.h>

#include "core/steps/step.h"

namespace dingle {
namespace {

const ComponentSpec kSpec{
    "json",
    "Reads a JSON object (RFC 8259) and makes its members fields; members of inner objects get names with "
    "dots, lists are kept as lists. Null members are left out. "
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
      .least = 1},
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

  void run(Batch& batch, StepTally& tally) const override {
    thread_local simdjson::dom::parser parser;
    std::string padded;
    each(batch, tally, [&](Event& event) {
      Value input = batch.get(event, field);
      if (input.absent()) {
        ++tally.out;
        return;
      }
      std::string_view text = input.is_textual() ? input.as_text() : std::string_view();
      // The parser reads some bytes beyond the text; those exist within the line buffer, else the text is
      // copied.
      const char* buffer = batch.buffer ? batch.buffer->bytes.get() : nullptr;
      const bool in_buffer =
          buffer && text.data() >= buffer && text.data() + text.size() <= buffer + batch.buffer->size;
      if (!in_buffer) {
        padded.assign(text);
        padded.reserve(text.size() + simdjson::SIMDJSON_PADDING);
        text = std::string_view(padded.data(), text.size());
      }
      simdjson::dom::element root;
      auto error = parser.parse(text.data(), text.size(), false).get(root);
      std::string name = prefix;
      if (!error && !root.is_object()) error = simdjson::INCORRECT_TYPE;
      if (!error) members(batch, event, root.get_object().value_unsafe(), name, depth, tally);
      if (error) {
        std::string_view why =
            error == simdjson::INCORRECT_TYPE ? "the JSON text is no object" : simdjson::error_message(error);
        event.set(batch.arena, names::unmatched, Value::text(batch.arena.copy("json: " + std::string(why))));
        ++tally.failed;
        return;
      }
      if (!keep && field != names::body) event.erase(field);
      ++tally.out;
    });
  }

 private:
  static void members(Batch& batch, Event& event, simdjson::dom::object object, std::string& name,
                      std::int64_t depth_left, StepTally& tally) {
    const std::size_t length = name.size();
    for (auto [key, value] : object) {
      name.resize(length);
      name += key;
      using Type = simdjson::dom::element_type;
      Value v;
      switch (value.type()) {
        case Type::NULL_VALUE: continue;
        case Type::INT64: v = Value::integer(value.get_int64().value_unsafe()); break;
        case Type::UINT64: v = Value::decimal(static_cast<double>(value.get_uint64().value_unsafe())); break;
        case Type::DOUBLE: v = Value::decimal(value.get_double().value_unsafe()); break;
        case Type::BOOL: v = Value::boolean(value.get_bool().value_unsafe()); break;
        case Type::STRING: v = Value::text(batch.arena.copy(value.get_string().value_unsafe())); break;
        case Type::ARRAY: v = Value::list(batch.arena.copy(simdjson::minify(value))); break;
        case Type::OBJECT:
          if (depth_left > 1) {
            name += '.';
            members(batch, event, value.get_object().value_unsafe(), name, depth_left - 1, tally);
            continue;
          }
          v = Value::map(batch.arena.copy(simdjson::minify(value)));
      }
      if (name == "body") {
        if (v.is_textual()) event.body = v.as_text();
      } else if (!event.set(batch.arena, field_id(name), v)) {
        ++tally.fields_left_out;
      }
    }
    name.resize(length);
  }
};

std::unique_ptr<Step> make(const StepMaking& m) {
  auto step = std::make_unique<Json>();
  step->field = field_id(m.options.text("field"));
  step->prefix = m.options.text("prefix");
  step->depth = m.options.number("depth");
  step->keep = m.options.flag("keep");
  return step;
}

const StepRegistration registration({kSpec, make});

}  // namespace
}  // namespace dingle
