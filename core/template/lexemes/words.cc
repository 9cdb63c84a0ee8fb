// Words of a fixed vocabulary, identifiers of fixed lengths, quoted text, lists.
#include <cstdint>
#include <cstring>

#include "core/json_text.h"
#include "core/severity.h"
#include "core/template/lexemes/parts.h"

namespace dingle {
namespace {

// The longest of the words, in any case, that starts here and does not run on into a further letter.
template <std::size_t N>
const char* scan_words(const char* at, const char* end, const std::string_view (&words)[N],
                       std::size_t* which) {
  const char* p = at;
  char lower[16];
  std::size_t n = 0;
  while (p != end && n < sizeof lower && static_cast<unsigned char>((*p | 0x20) - 'a') < 26)
    lower[n++] = static_cast<char>(*p++ | 0x20);
  if (p != end && static_cast<unsigned char>((*p | 0x20) - 'a') < 26) return nullptr;
  for (std::size_t i = 0; i < N; ++i)
    if (std::string_view(lower, n) == words[i]) {
      *which = i;
      return p;
    }
  return nullptr;
}

constexpr std::string_view kBooleans[] = {"true", "false", "yes", "no", "on", "off"};

const char* scan_boolean(const char* at, const char* end, const MatchContext&, const void*, Value& out) {
  std::size_t which = 0;
  const char* p = scan_words(at, end, kBooleans, &which);
  if (p) out = Value::boolean(which % 2 == 0);
  return p;
}

// A run of letters, and its severity number; 0 if it is none.
int level_at(const char* at, const char* end, const char** behind) {
  char lower[16];
  std::size_t n = 0;
  const char* p = at;
  while (p != end && n < sizeof lower && is_letter(*p)) lower[n++] = static_cast<char>(*p++ | 0x20);
  if (p != end && is_letter(*p)) return 0;
  *behind = p;
  return level_number({lower, n});
}

const char* scan_level(const char* at, const char* end, const MatchContext&, const void*, Value& out) {
  const char* p = nullptr;
  if (level_at(at, end, &p) == 0) return nullptr;
  out = text_between(at, p);
  return p;
}

// Whether all of the bytes are hexadecimal digits; 16 at once.
template <std::size_t N>
bool all_hex(const char* at) {
  static_assert(N % 16 == 0);
  typedef unsigned char Bytes __attribute__((vector_size(16)));
  for (std::size_t i = 0; i < N; i += 16) {
    Bytes b;
    std::memcpy(&b, at + i, sizeof b);
    const auto hex = ((b - '0') <= 9) | (((b | 0x20) - 'a') <= 5);  // all ones where it is one
    std::uint64_t halves[2];
    std::memcpy(halves, &hex, sizeof halves);
    if ((halves[0] & halves[1]) != ~std::uint64_t{0}) return false;
  }
  return true;
}

template <std::size_t Digits>
const char* scan_id(const char* at, const char* end, const MatchContext&, const void*, Value& out) {
  if (end - at < static_cast<std::ptrdiff_t>(Digits) || !all_hex<Digits>(at)) return nullptr;
  const char* p = at + Digits;
  if (p != end && is_hex(*p)) return nullptr;
  out = text_between(at, p);
  return p;
}

// RFC 9562, section 4: 8-4-4-4-12 digits.
const char* scan_uuid(const char* at, const char* end, const MatchContext&, const void*, Value& out) {
  constexpr std::ptrdiff_t kLength = 36;
  if (end - at < kLength || at[8] != '-' || at[13] != '-' || at[18] != '-' || at[23] != '-') return nullptr;
  char digits[32];
  std::memcpy(digits, at, 8);
  std::memcpy(digits + 8, at + 9, 4);
  std::memcpy(digits + 12, at + 14, 4);
  std::memcpy(digits + 16, at + 19, 4);
  std::memcpy(digits + 20, at + 24, 12);
  if (!all_hex<32>(digits)) return nullptr;
  const char* p = at + kLength;
  if (p != end && is_hex(*p)) return nullptr;
  out = text_between(at, p);
  return p;
}

}  // namespace

// "..." or '...'; a backslash keeps the next character from ending it. The value is what stands between the
// quotes, with \" \' \\ \/ \n \r \t decoded and other escapes as they are.
const char* scan_quoted(const char* at, const char* end, const MatchContext& context, const void*,
                        Value& out) {
  if (at == end || (*at != '"' && *at != '\'')) return nullptr;
  bool escapes = false;
  const char* p = at + 1;
  for (; p != end && *p != *at; ++p)
    if (*p == '\\') {
      escapes = true;
      if (++p == end) return nullptr;
    }
  if (p == end) return nullptr;
  std::string_view inner(at + 1, static_cast<std::size_t>(p - at - 1));
  if (escapes && context.arena) {
    char* to = static_cast<char*>(context.arena->allocate(inner.size()));
    std::size_t n = 0;
    for (std::size_t i = 0; i < inner.size(); ++i) {
      char c = inner[i];
      if (c == '\\' && i + 1 < inner.size()) {
        char next = inner[++i];
        switch (next) {
          case 'n': c = '\n'; break;
          case 'r': c = '\r'; break;
          case 't': c = '\t'; break;
          case '"':
          case '\'':
          case '\\':
          case '/': c = next; break;
          default: to[n++] = '\\'; c = next;
        }
      }
      to[n++] = c;
    }
    inner = {to, n};
  }
  out = Value::text(inner);
  return p + 1;
}

namespace {

struct ListSettings {
  char separator = ',';
  std::string open = "[", close = "]";
  CellType item;
  bool guess = true;
};

// [a, b, "c d"]: items between brackets. The value is the list as JSON.
const char* scan_list(const char* at, const char* end, const MatchContext& context, const void* settings,
                      Value& out) {
  static const ListSettings plain;
  const ListSettings& s = settings ? *static_cast<const ListSettings*>(settings) : plain;
  const char* p = at;
  auto here = [&](const std::string& text) {
    return static_cast<std::size_t>(end - p) >= text.size() && std::memcmp(p, text.data(), text.size()) == 0;
  };
  if (!here(s.open)) return nullptr;
  p += s.open.size();
  std::string json = "[";
  auto blanks = [&] {
    while (p != end && *p == ' ') ++p;
  };
  blanks();
  bool first = true;
  while (!here(s.close) || s.close.empty()) {
    if (!first) {
      if (p == end || *p != s.separator) break;
      ++p;
    }
    if (s.separator != ' ') blanks();
    Value item;
    if (p != end && (*p == '"' || *p == '\'')) {
      p = scan_quoted(p, end, context, nullptr, item);
      if (p == nullptr) return nullptr;
    } else {
      const char* from = p;
      while (p != end && *p != s.separator && *p != '\n' && (s.close.empty() ? *p != ' ' : !here(s.close)))
        ++p;
      const char* to = p;
      while (to != from && to[-1] == ' ') --to;
      if (to == from) return nullptr;  // an empty item is no item
      const std::string_view text(from, static_cast<std::size_t>(to - from));
      item = s.guess ? guessed_value(text, context) : typed_cell(text, s.item, context);
      if (!s.guess && item.kind() != s.item.kind) return nullptr;
    }
    if (s.separator != ' ') blanks();
    if (!first) json += ',';
    first = false;
    item.append_json(json);
  }
  if (!here(s.close) || (first && s.close.empty())) return nullptr;
  p += s.close.size();
  json += ']';
  out = context.arena ? Value::list(context.arena->copy(json)) : Value::list("[]");
  return p;
}

void prepare_list(ParameterReader& parameters, PreparedLexeme& lexeme) {
  auto settings = std::make_shared<ListSettings>();
  settings->separator = parameters.byte("separator", ',');
  settings->open = parameters.text("open", "[");
  settings->close = parameters.text("close", "]");
  if (const Parameter* p = parameters.next_positional()) {
    settings->item = cell_type(parameters, *p, p->value);
    settings->guess = false;
  }
  lexeme.first = settings->open.empty() ? ByteClass::any() : ByteClass::of(settings->open.substr(0, 1));
  lexeme.settings = settings;
}

}  // namespace

void add_word_lexemes(std::vector<Lexeme>& all) {
  using namespace classes;
  const ByteClass word = letters();
  all.push_back({"boolean", Kind::boolean, scan_boolean, word, "true or false (also yes, no, on, off)",
                 "true\nNo", "maybe"});
  all.push_back(
      {"level", Kind::text, scan_level, word, "a severity word", "ERROR\nwarn\nInfo\nDBG\nsevere", "loud"});
  all.push_back(
      {"uuid", Kind::text, scan_uuid, hex(), "a UUID", "123e4567-e89b-12d3-a456-426614174000", "123e4567"});
  all.push_back({"trace_id", Kind::text, scan_id<32>, hex(), "a trace id of 32 hexadecimal digits",
                 "4bf92f3577b34da6a3ce929d0e0e4736", "4bf92f35"});
  all.push_back({"span_id", Kind::text, scan_id<16>, hex(), "a span id of 16 hexadecimal digits",
                 "00f067aa0ba902b7", "00f067"});
  all.push_back({"quoted", Kind::text, scan_quoted, ByteClass::of("\"'"), "text in quotes",
                 "\"berth free\"\n'it is'", "plain"});
  all.push_back({"list", Kind::list, scan_list, ByteClass::of("["), "a list such as [tern, skua]",
                 "[tern, skua]\n[1,2,3]", "tern",
                 "the items' pattern, separator=\",\", open=\"[\", close=\"]\"", prepare_list});
}

}  // namespace dingle
