#include "core/json_fields.h"

#include <simdjson.h>
#if defined(__SSE2__)
#include <emmintrin.h>
#endif

#include <cstring>
#include <string>

#include "core/name_memo.h"

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

namespace lazy = simdjson::ondemand;

// Where a text with room behind it stands: the line itself, or a copy in the arena.
std::string_view with_room(std::string_view text, const char* readable, Arena& arena) {
  const auto room = static_cast<std::ptrdiff_t>(simdjson::SIMDJSON_PADDING);
  if (readable != nullptr && readable - (text.data() + text.size()) >= room) return text;
  char* copy = static_cast<char*>(arena.allocate(text.size() + simdjson::SIMDJSON_PADDING));
  std::memcpy(copy, text.data(), text.size());
  std::memset(copy + text.size(), 0, simdjson::SIMDJSON_PADDING);
  return {copy, text.size()};
}

// Reads all of a value, since what is only passed over is not checked.
simdjson::error_code check(lazy::value value) {
  lazy::json_type type;
  if (auto error = value.type().get(type)) return error;
  switch (type) {
    case lazy::json_type::array: {
      lazy::array array;
      if (auto error = value.get_array().get(array)) return error;
      for (auto item : array) {
        lazy::value inner;
        if (auto error = item.get(inner)) return error;
        if (auto error = check(inner)) return error;
      }
      return simdjson::SUCCESS;
    }
    case lazy::json_type::object: {
      lazy::object object;
      if (auto error = value.get_object().get(object)) return error;
      for (auto item : object) {
        lazy::field field;
        if (auto error = std::move(item).get(field)) return error;
        if (auto error = check(field.value())) return error;
      }
      return simdjson::SUCCESS;
    }
    case lazy::json_type::string: return value.get_string().error();
    case lazy::json_type::number: return value.get_number().error();
    case lazy::json_type::boolean: return value.get_bool().error();
    case lazy::json_type::null: return value.is_null() ? simdjson::SUCCESS : simdjson::N_ATOM_ERROR;
  }
  return simdjson::SUCCESS;
}

// What stands between the quotes, if nothing in it is escaped: a slice of the line.
bool plain_string(const char* raw, const char* end, std::string_view& text) {
  const char* p = raw;
#if defined(__SSE2__)
  // There is room behind the text for whole vectors.
  for (; p < end; p += 16) {
    const __m128i b = _mm_loadu_si128(reinterpret_cast<const __m128i*>(p));
    const int places = _mm_movemask_epi8(
        _mm_or_si128(_mm_cmpeq_epi8(b, _mm_set1_epi8('"')), _mm_cmpeq_epi8(b, _mm_set1_epi8('\\'))));
    if (places == 0) continue;
    p += __builtin_ctz(static_cast<unsigned>(places));
    break;
  }
#else
  while (p < end && *p != '"' && *p != '\\') ++p;
#endif
  if (p >= end || *p != '"') return false;
  text = {raw, static_cast<std::size_t>(p - raw)};
  return true;
}

struct Reading {
  std::string_view text;
  Arena& arena;
  std::vector<Field>& out;
  std::uint64_t& lost;
  NameMemo& memo;
  std::string& name;  // of the objects around, with dots
  std::size_t place = 0;
};

simdjson::error_code members(lazy::object object, std::int64_t depth_left, Reading& r) {
  const std::size_t length = r.name.size();
  const char* const end = r.text.data() + r.text.size();
  for (auto item : object) {
    lazy::field field;
    if (auto error = std::move(item).get(field)) return error;
    std::string_view key;
    if (!plain_string(field.key().raw(), end, key))
      if (auto error = field.unescaped_key().get(key)) return error;
    lazy::value value = field.value();
    lazy::json_type type;
    if (auto error = value.type().get(type)) return error;
    Value v;
    switch (type) {
      case lazy::json_type::null:
        if (!value.is_null()) return simdjson::N_ATOM_ERROR;
        continue;
      case lazy::json_type::string: {
        lazy::raw_json_string raw;
        if (auto error = value.get_raw_json_string().get(raw)) return error;
        std::string_view text;
        if (!plain_string(raw.raw(), end, text)) {
          if (auto error = value.get_string().get(text)) return error;
          text = r.arena.copy(text);
        }
        v = Value::text(text);
        break;
      }
      case lazy::json_type::number: {
        lazy::number number;
        if (auto error = value.get_number().get(number)) return error;
        v = number.is_int64()    ? Value::integer(number.get_int64())
            : number.is_uint64() ? Value::decimal(static_cast<double>(number.get_uint64()))
                                 : Value::decimal(number.get_double());
        break;
      }
      case lazy::json_type::boolean: {
        bool b = false;
        if (auto error = value.get_bool().get(b)) return error;
        v = Value::boolean(b);
        break;
      }
      case lazy::json_type::object:
        if (depth_left > 1) {
          lazy::object inner;
          if (auto error = value.get_object().get(inner)) return error;
          r.name.append(key) += '.';
          if (auto error = members(inner, depth_left - 1, r)) return error;
          r.name.resize(length);
          continue;
        }
        [[fallthrough]];
      case lazy::json_type::array: {
        const char* from = value.raw_json_token().data();
        if (auto error = check(value)) return error;
        // Its end by the brackets; without blanks, as JSON is written elsewhere.
        const char* to = json_end(from, end);
        if (to == nullptr) return simdjson::TAPE_ERROR;
        const std::string_view raw(from, static_cast<std::size_t>(to - from));
        std::string_view text = raw;
        if (raw.find_first_of(" \t") != std::string_view::npos) {
          char* copy = static_cast<char*>(r.arena.allocate(raw.size() + simdjson::SIMDJSON_PADDING));
          std::size_t size = 0;
          if (auto error = simdjson::minify(raw.data(), raw.size(), copy, size)) return error;
          text = {copy, size};
        }
        v = type == lazy::json_type::array ? Value::list(text) : Value::map(text);
      }
    }
    const FieldId id = r.memo.id(r.place++, r.name, key);
    if (id == kNoField)
      ++r.lost;
    else
      r.out.push_back({id, v});
  }
  return simdjson::SUCCESS;
}

}  // namespace

std::string_view json_members(std::string_view text, const JsonOptions& options, Arena& arena,
                              std::vector<Field>& out, std::uint64_t& lost) {
  thread_local lazy::parser parser;
  thread_local NameMemo memo;
  thread_local std::string name;
  const std::size_t first = text.find_first_not_of(" \t\r\n");
  if (first == std::string_view::npos) return "the JSON text is empty";
  if (text[first] != '{') return "the JSON text is no object";
  text = with_room(text, options.readable, arena);
  lazy::document document;
  const auto room = text.size() + simdjson::SIMDJSON_PADDING;
  auto error = parser.iterate(text.data(), text.size(), room).get(document);
  lazy::object object;
  if (!error) error = document.get_object().get(object);
  name.assign(options.prefix);
  Reading reading{text, arena, out, lost, memo, name};
  if (!error) error = members(object, options.depth, reading);
  const char* behind = nullptr;
  if (!error && document.current_location().get(behind) != simdjson::OUT_OF_BOUNDS)
    return "something stands behind the JSON object";
  return error ? std::string_view(simdjson::error_message(error)) : std::string_view();
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
