#include "core/json_fields.h"

#include <simdjson.h>

#include <string>

namespace dingle {
namespace {

using Type = simdjson::dom::element_type;

// The parser reads some bytes beyond the text; where those may not be read, the text is copied.
simdjson::simdjson_result<simdjson::dom::element> parse(std::string_view text, const char* readable) {
  thread_local simdjson::dom::parser parser;
  thread_local std::string padded;
  if (readable == nullptr ||
      readable - (text.data() + text.size()) < static_cast<std::ptrdiff_t>(simdjson::SIMDJSON_PADDING)) {
    padded.reserve(text.size() + simdjson::SIMDJSON_PADDING);
    padded.assign(text);
    text = std::string_view(padded.data(), text.size());
  }
  return parser.parse(text.data(), text.size(), false);
}

Value scalar(const simdjson::dom::element& value, Arena& arena) {
  switch (value.type()) {
    case Type::INT64: return Value::integer(value.get_int64().value_unsafe());
    case Type::UINT64: return Value::decimal(static_cast<double>(value.get_uint64().value_unsafe()));
    case Type::DOUBLE: return Value::decimal(value.get_double().value_unsafe());
    case Type::BOOL: return Value::boolean(value.get_bool().value_unsafe());
    case Type::STRING: return Value::text(arena.copy(value.get_string().value_unsafe()));
    case Type::ARRAY: return Value::list(arena.copy(simdjson::minify(value)));
    case Type::OBJECT: return Value::map(arena.copy(simdjson::minify(value)));
    case Type::NULL_VALUE: break;
  }
  return {};
}

void members(simdjson::dom::object object, std::string& name, std::int64_t depth_left, Arena& arena,
             std::vector<Field>& out, std::uint64_t& lost) {
  const std::size_t length = name.size();
  for (auto [key, value] : object) {
    const bool inner = value.type() == Type::OBJECT && depth_left > 1;
    FieldId id = kNoField;
    if (length == 0 && !inner) {
      id = field_id(key);
    } else {
      name.resize(length);
      name += key;
      if (inner) {
        name += '.';
        members(value.get_object().value_unsafe(), name, depth_left - 1, arena, out, lost);
        name.resize(length);
        continue;
      }
      id = field_id(name);
    }
    const Value v = scalar(value, arena);
    if (v.absent()) continue;
    if (id == kNoField)
      ++lost;
    else
      out.push_back({id, v});
  }
  name.resize(length);
}

}  // namespace

std::string_view json_members(std::string_view text, const JsonOptions& options, Arena& arena,
                              std::vector<Field>& out, std::uint64_t& lost) {
  simdjson::dom::element root;
  if (auto error = parse(text, options.readable).get(root)) return simdjson::error_message(error);
  if (!root.is_object()) return "the JSON text is no object";
  thread_local std::string name;
  name.assign(options.prefix);
  members(root.get_object().value_unsafe(), name, options.depth, arena, out, lost);
  return "";
}

Value json_value(std::string_view text, const char* readable, Arena& arena) {
  simdjson::dom::element root;
  if (parse(text, readable).get(root)) return {};
  return scalar(root, arena);
}

const char* json_end(const char* at, const char* end) {
  constexpr std::size_t kDeepest = 1000;
  if (at == end || (*at != '{' && *at != '[')) return nullptr;
  bool square[kDeepest];
  std::size_t depth = 0;
  for (const char* p = at; p != end; ++p) {
    switch (*p) {
      case '"':
        for (++p; p != end && *p != '"'; ++p)
          if (*p == '\\' && ++p == end) return nullptr;
        if (p == end) return nullptr;
        break;
      case '{':
      case '[':
        if (depth == kDeepest) return nullptr;
        square[depth++] = *p == '[';
        break;
      case '}':
      case ']':
        if (square[--depth] != (*p == ']')) return nullptr;
        if (depth == 0) return p + 1;
        break;
    }
  }
  return nullptr;
}

}  // namespace dingle
