#include "core/json_fields.h"

#include <simdjson.h>

#include "core/ascii.h"
#if defined(__SSE2__)
#include <emmintrin.h>
#endif

#include <charconv>
#include <cmath>
#include <cstdlib>
#include <cstring>
#include <string>

#include "core/json_text.h"
#include "core/name_memo.h"

namespace dingle {
namespace {

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

constexpr bool is_blank(char c) { return c == ' ' || c == '\t' || c == '\n' || c == '\r'; }
constexpr int hex_of(char c) {
  return is_digit(c)            ? c - '0'
         : c >= 'a' && c <= 'f' ? c - 'a' + 10
         : c >= 'A' && c <= 'F' ? c - 'A' + 10
                                : -1;
}

void skip_blanks(const char*& p, const char* end) {
  while (p != end && is_blank(*p)) ++p;
}

// Behind a number (RFC 8259 section 6), or nullptr.
const char* number_end(const char* p, const char* end, bool& whole) {
  whole = true;
  if (p != end && *p == '-') ++p;
  if (p == end || !is_digit(*p)) return nullptr;
  if (*p++ != '0')
    while (p != end && is_digit(*p)) ++p;
  if (p != end && *p == '.') {
    whole = false;
    if (++p == end || !is_digit(*p)) return nullptr;
    while (p != end && is_digit(*p)) ++p;
  }
  if (p != end && (*p == 'e' || *p == 'E')) {
    whole = false;
    if (++p != end && (*p == '+' || *p == '-')) ++p;
    if (p == end || !is_digit(*p)) return nullptr;
    while (p != end && is_digit(*p)) ++p;
  }
  return p;
}

// Behind a string (section 7) whose opening quote is at p, or nullptr.
const char* string_end(const char* p, const char* end) {
  for (++p; p != end; ++p) {
    if (*p == '"') return p + 1;
    if (static_cast<unsigned char>(*p) < 0x20) return nullptr;
    if (*p != '\\') continue;
    if (++p == end || *p == '\0' || std::strchr("\"\\/bfnrtu", *p) == nullptr) return nullptr;
    if (*p != 'u') continue;
    for (int i = 0; i < 4; ++i)
      if (++p == end || hex_of(*p) < 0) return nullptr;
  }
  return nullptr;
}

// Behind a literal, a string or a number, or nullptr.
const char* scalar_end(const char* p, const char* end) {
  if (*p == '"') return string_end(p, end);
  for (std::string_view word : {"true", "false", "null"})
    if (std::string_view(p, static_cast<std::size_t>(end - p)).starts_with(word)) return p + word.size();
  bool whole = false;
  return number_end(p, end, whole);
}

// Steps over a key and its colon.
bool skip_key(const char*& p, const char* end) {
  skip_blanks(p, end);
  if (p == end || *p != '"' || (p = string_end(p, end)) == nullptr) return false;
  skip_blanks(p, end);
  return p != end && *p++ == ':';
}

constexpr std::string_view kTooDeep = "it is nested deeper than 128 levels";
static_assert(kDeepestJson == 128);

void append_utf8(char*& to, std::uint32_t code) {
  auto put = [&](std::uint32_t byte) { *to++ = static_cast<char>(byte); };
  if (code < 0x80) return put(code);
  if (code < 0x800) return put(0xC0 | code >> 6), put(0x80 | (code & 63));
  if (code < 0x10000) return put(0xE0 | code >> 12), put(0x80 | (code >> 6 & 63)), put(0x80 | (code & 63));
  put(0xF0 | code >> 18), put(0x80 | (code >> 12 & 63)), put(0x80 | (code >> 6 & 63)),
      put(0x80 | (code & 63));
}

// What the text between two quotes says. Half a surrogate pair becomes U+FFFD; a text with an escape that is
// none stays as it is written: both are told in `odd`. Never longer than what it is made from.
std::string_view unescaped(std::string_view raw, Arena& arena, bool& odd) {
  char* const begin = static_cast<char*>(arena.allocate(raw.size()));
  char* to = begin;
  auto code_at = [&](std::size_t i) -> std::int32_t {
    std::int32_t code = 0;
    if (raw.size() - i < 4) return -1;
    for (std::size_t k = 0; k < 4; ++k) {
      if (hex_of(raw[i + k]) < 0) return -1;
      code = code * 16 + hex_of(raw[i + k]);
    }
    return code;
  };
  for (std::size_t i = 0; i < raw.size();) {
    const std::size_t escape = std::min(raw.find('\\', i), raw.size());
    std::memcpy(to, raw.data() + i, escape - i);
    to += escape - i;
    if (escape == raw.size()) break;
    i = escape + 2;
    switch (i <= raw.size() ? raw[escape + 1] : '\0') {
      case '"': *to++ = '"'; break;
      case '\\': *to++ = '\\'; break;
      case '/': *to++ = '/'; break;
      case 'b': *to++ = '\b'; break;
      case 'f': *to++ = '\f'; break;
      case 'n': *to++ = '\n'; break;
      case 'r': *to++ = '\r'; break;
      case 't': *to++ = '\t'; break;
      case 'u': {
        std::int32_t code = code_at(i);
        if (code < 0) return odd = true, raw;
        i += 4;
        if (code >= 0xD800 && code < 0xE000) {
          const std::int32_t low = code < 0xDC00 && raw.substr(i).starts_with("\\u") ? code_at(i + 2) : -1;
          if (low >= 0xDC00 && low < 0xE000)
            code = 0x10000 + ((code - 0xD800) << 10) + (low - 0xDC00), i += 6;
          else
            code = 0xFFFD, odd = true;
        }
        append_utf8(to, static_cast<std::uint32_t>(code));
        break;
      }
      default: return odd = true, raw;
    }
  }
  return {begin, static_cast<std::size_t>(to - begin)};
}

// What makes an object or list, whose brackets and strings are sound, one that any reader takes as it is.
struct Nesting {
  std::size_t deepest = 0;
  bool plain = true;  // no blanks, no half surrogate pair, no number that some reader may not hold
};
Nesting nesting_of(std::string_view raw) {
  constexpr std::size_t kSafeDigits = 15;
  Nesting found;
  std::size_t depth = 0;
  for (std::size_t i = 0; i < raw.size();) {
    const char c = raw[i];
    if (c == '"') {
      for (++i; raw[i] != '"'; ++i)
        if (raw[i] == '\\') {
          ++i;
          found.plain = found.plain && (raw[i] != 'u' || lower_ascii(raw[i + 1]) != 'd');
        }
      ++i;
    } else if (is_digit(c)) {
      const std::size_t from = i;
      while (i < raw.size() && is_digit(raw[i])) ++i;
      found.plain = found.plain && i - from <= kSafeDigits && (i == raw.size() || lower_ascii(raw[i]) != 'e');
    } else {
      if (c == '[' || c == '{') found.deepest = std::max(found.deepest, ++depth);
      if (c == ']' || c == '}') --depth;
      found.plain = found.plain && !is_blank(c);
      ++i;
    }
  }
  return found;
}

// The object or list that `raw` is, which is sound, as every reader takes it: without blanks between its parts, half surrogate
// pairs as U+FFFD, numbers that are neither a 64-bit integer nor a finite double as texts. One that nests deeper than
// kDeepestValue is a text. `odd` counts what did not stay as it was written.
Value nested_value(std::string_view raw, Arena& arena, std::uint64_t& odd) {
  const Nesting nesting = nesting_of(raw);
  if (nesting.deepest > kDeepestValue) return ++odd, Value::text(raw);
  const auto made = [&](std::string_view text) {
    return raw.front() == '[' ? Value::list(text) : Value::map(text);
  };
  if (nesting.plain) return made(raw);
  std::string out;
  const char* const end = raw.data() + raw.size();
  for (const char* p = raw.data(); p != end;) {
    if (*p == '"') {
      const char* const from = p;
      p = string_end(p, end);
      const std::string_view text(from, static_cast<std::size_t>(p - from));
      bool half = false;
      const std::string_view said =
          text.find('\\') == text.npos ? text : unescaped(text.substr(1, text.size() - 2), arena, half);
      odd += half;
      if (half)
        append_json_string(out, said);
      else
        out += text;
    } else if (is_digit(*p) || *p == '-') {
      bool whole = false;
      const char* const from = p;
      p = number_end(p, end, whole);
      const std::string_view text(from, static_cast<std::size_t>(p - from));
      const bool beyond = json_number(text).kind() == Kind::text;
      odd += beyond;
      out += beyond ? "\"" + std::string(text) + "\"" : std::string(text);
    } else {
      if (!is_blank(*p)) out += *p;
      ++p;
    }
  }
  return made(arena.copy(out));
}

// What stands between the quotes, from behind the opening one: a slice of the line if nothing in it is
// escaped.
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
  JsonCounts& counts;
  NameMemo& memo;
  std::string& name;  // of the objects around, with dots
  std::size_t place = 0;
};

// A string from behind its opening quote; the parser knows that it ends.
std::string_view string_text(const char* raw, Reading& r) {
  const char* const end = r.text.data() + r.text.size();
  std::string_view text;
  if (plain_string(raw, end, text)) return text;
  const char* p = raw;
  while (p < end && *p != '"') p += *p == '\\' ? 2 : 1;
  bool odd = false;
  text = unescaped({raw, static_cast<std::size_t>(std::min(p, end) - raw)}, r.arena, odd);
  r.counts.as_text += odd;
  return text;
}

// Why reading failed: an error of the parser's, or a text.
struct Fault {
  simdjson::error_code error = simdjson::SUCCESS;
  std::string_view why;
  Fault(simdjson::error_code e = simdjson::SUCCESS) : error(e) {}
  Fault(std::string_view text) : error(simdjson::TAPE_ERROR), why(text) {}
  explicit operator bool() const { return error != simdjson::SUCCESS; }
  std::string_view text() const {
    return error == simdjson::SUCCESS ? std::string_view()
           : why.empty()              ? simdjson::error_message(error)
                                      : why;
  }
};

Fault members(lazy::object object, std::int64_t depth_left, Reading& r) {
  const std::size_t length = r.name.size();
  const char* const end = r.text.data() + r.text.size();
  for (auto item : object) {
    lazy::field field;
    if (auto error = std::move(item).get(field)) return error;
    const std::string_view key = string_text(field.key().raw(), r);
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
        v = Value::text(string_text(raw.raw(), r));
        break;
      }
      case lazy::json_type::number: {
        // Up to the next token; the parser's own conversion is wrong beyond 18 digits.
        std::string_view token = value.raw_json_token();
        while (!token.empty() && is_blank(token.back())) token.remove_suffix(1);
        v = json_number(token);
        if (v.absent()) return simdjson::NUMBER_ERROR;
        r.counts.as_text += v.kind() == Kind::text;
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
          if (auto fault = members(inner, depth_left - 1, r)) return fault;
          r.name.resize(length);
          continue;
        }
        [[fallthrough]];
      case lazy::json_type::array: {
        const char* from = value.raw_json_token().data();
        std::string_view why;
        const char* to = json_end(from, end, why);
        if (to == nullptr) return why;
        v = nested_value({from, static_cast<std::size_t>(to - from)}, r.arena, r.counts.as_text);
      }
    }
    const FieldId id = r.memo.id(r.place++, r.name, key);
    if (id == kNoField)
      ++r.counts.unnamed;
    else
      r.out.push_back({id, v});
  }
  return {};
}

}  // namespace

std::string_view json_members(std::string_view text, const JsonOptions& options, Arena& arena,
                              std::vector<Field>& out, JsonCounts& counts) {
  thread_local lazy::parser parser;
  thread_local NameMemo memo;
  memo.use(arena.names());
  thread_local std::string name;
  const std::size_t first = text.find_first_not_of(" \t\r\n");
  if (first == std::string_view::npos) return "the JSON text is empty";
  if (text[first] != '{') return "the JSON text is no object";
  text = with_room(text, options.readable, arena);
  lazy::document document;
  const auto room = text.size() + simdjson::SIMDJSON_PADDING;
  Fault fault = parser.iterate(text.data(), text.size(), room).get(document);
  lazy::object object;
  if (!fault) fault = document.get_object().get(object);
  name.assign(options.prefix);
  Reading reading{text, arena, out, counts, memo, name};
  if (!fault) fault = members(object, std::min<std::int64_t>(options.depth, kDeepestJson), reading);
  const char* behind = nullptr;
  if (!fault && document.current_location().get(behind) != simdjson::OUT_OF_BOUNDS)
    return "something stands behind the JSON object";
  return fault.text();
}

Value json_value(std::string_view text, Arena& arena) {
  while (!text.empty() && is_blank(text.front())) text.remove_prefix(1);
  while (!text.empty() && is_blank(text.back())) text.remove_suffix(1);
  if (text.empty() || !simdjson::validate_utf8(text.data(), text.size())) return {};
  const char* const end = text.data() + text.size();
  const bool nested = text[0] == '{' || text[0] == '[';
  if ((nested ? json_end(text.data(), end) : scalar_end(text.data(), end)) != end) return {};
  std::uint64_t as_text = 0;
  if (nested) return nested_value(text, arena, as_text);
  bool odd = false;
  switch (text[0]) {
    case 'n': return {};
    case 't': return Value::boolean(true);
    case 'f': return Value::boolean(false);
    case '"': return Value::text(unescaped(text.substr(1, text.size() - 2), arena, odd));
    default: return json_number(text);
  }
}

Value json_number(std::string_view text) {
  const char* const end = text.data() + text.size();
  bool whole = false;
  if (number_end(text.data(), end, whole) != end) return {};
  if (whole) {
    std::int64_t integer = 0;
    if (std::from_chars(text.data(), end, integer).ec == std::errc()) return Value::integer(integer);
    return Value::text(text);
  }
  double decimal = 0;
  const auto result = std::from_chars(text.data(), end, decimal);
  if (result.ec == std::errc() && std::isfinite(decimal)) return Value::decimal(decimal);
  // Out of range: too small is nearest to zero.
  const double nearest = std::strtod(std::string(text).c_str(), nullptr);
  return std::isfinite(nearest) ? Value::decimal(nearest) : Value::text(text);
}

bool json_each(std::string_view text, Arena& arena,
               const std::function<bool(std::string_view name, std::string_view value)>& each) {
  const char* p = text.data();
  const char* const end = p + text.size();
  skip_blanks(p, end);
  if (p == end || *p++ != '{') return false;
  skip_blanks(p, end);
  bool first = true;
  for (; p != end && *p != '}'; first = false) {
    if (!first && *p++ != ',') return false;
    skip_blanks(p, end);
    const char* const key = p;
    if (!skip_key(p, end)) return false;
    const std::string_view raw(key + 1, static_cast<std::size_t>(string_end(key, end) - key) - 2);
    bool odd = false;
    const std::string_view name = raw.find('\\') == raw.npos ? raw : unescaped(raw, arena, odd);
    skip_blanks(p, end);
    if (p == end) return false;
    const char* const from = p;
    p = *p == '{' || *p == '[' ? json_end(p, end) : scalar_end(p, end);
    if (p == nullptr || !each(name, {from, static_cast<std::size_t>(p - from)})) return false;
    skip_blanks(p, end);
  }
  if (p == end) return false;
  ++p;
  skip_blanks(p, end);
  return p == end;
}

bool json_items(std::string_view text, std::size_t most, std::vector<std::string_view>& items,
                std::string_view& why) {
  const char* p = text.data();
  const char* const end = p + text.size();
  const auto unsound = [&] {
    why = "the list is no sound JSON";
    return false;
  };
  skip_blanks(p, end);
  if (p == end || *p++ != '[') return unsound();
  skip_blanks(p, end);
  for (bool first = true; p != end && *p != ']'; first = false) {
    if (!first && *p++ != ',') return unsound();
    skip_blanks(p, end);
    if (p == end) return unsound();
    const char* const from = p;
    p = *p == '{' || *p == '[' ? json_end(p, end, why) : scalar_end(p, end);
    if (p == nullptr || p == from) return unsound();
    if (items.size() == most) {
      why = "the list has more items than `most` allows";
      return false;
    }
    items.emplace_back(from, static_cast<std::size_t>(p - from));
    skip_blanks(p, end);
  }
  if (p == end) return unsound();
  ++p;
  skip_blanks(p, end);
  return p == end || unsound();
}

bool nests_deeper_than(std::string_view json, std::size_t levels) {
  std::size_t depth = 0;
  for (std::size_t i = 0; i < json.size(); ++i) {
    const char c = json[i];
    if (c == '"') {
      for (++i; i < json.size() && json[i] != '"'; ++i) i += json[i] == '\\';
    } else if (c == '{' || c == '[') {
      if (++depth > levels) return true;
    } else if ((c == '}' || c == ']') && depth != 0) {
      --depth;
    }
  }
  return false;
}

const char* json_end(const char* p, const char* end, std::string_view& why) {
  why = "the JSON text is not sound";
  if (p == end || (*p != '{' && *p != '[')) return nullptr;
  bool square[kDeepestJson];
  std::size_t depth = 0;
  for (;;) {
    // A value begins here.
    skip_blanks(p, end);
    if (p == end) return nullptr;
    if (*p == '{' || *p == '[') {
      if (depth == kDeepestJson) return why = kTooDeep, nullptr;
      square[depth++] = *p++ == '[';
      skip_blanks(p, end);
      if (p == end) return nullptr;
      if (*p != (square[depth - 1] ? ']' : '}')) {
        if (!square[depth - 1] && !skip_key(p, end)) return nullptr;
        continue;
      }
    } else if ((p = scalar_end(p, end)) == nullptr) {
      return nullptr;
    }
    // It ended; so may those around it.
    for (;;) {
      skip_blanks(p, end);
      if (p == end) return nullptr;
      if (*p == ',') break;
      if (*p != (square[depth - 1] ? ']' : '}')) return nullptr;
      ++p;
      if (--depth == 0) return p;
    }
    ++p;
    if (!square[depth - 1] && !skip_key(p, end)) return nullptr;
  }
}

}  // namespace dingle
