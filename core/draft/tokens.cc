#include "core/draft/tokens.h"

#include <algorithm>

#include "core/ascii.h"
#include "core/json_fields.h"
#include "core/template/lexemes.h"
#include "core/time/formats.h"
#include "core/time/instant.h"

namespace dingle {
namespace {

using Form = Token::Form;

bool word_byte(char c) {
  return is_letter(c) || is_digit(c) || c == '_' || c == '-' || static_cast<unsigned char>(c) >= 0x80;
}

const char* scan(const Lexeme& lexeme, const char* at, const char* end, Value& value) {
  return lexeme.scan(at, end, {}, nullptr, value);
}

// The end of the time that starts here, and the narrowest pattern that takes it. `first`: no value stands before it; some
// forms could be anything else within a line.
const char* time_at(const char* at, const char* end, std::int64_t reference, bool first,
                    const char** pattern) {
  ParsedTime t;
  struct Known {
    const char* name;
    const char* (*scan)(const char*, const char*, ParsedTime&);
  };
  static constexpr Known kForms[] = {{"rfc3339", scan_rfc3339},       {"clf_time", scan_clf_time},
                                     {"slash_time", scan_slash_time}, {"dot_time", scan_dot_time},
                                     {"ctime", scan_ctime},           {"mail_time", scan_mail_time},
                                     {"tai64n", scan_tai64n}};
  for (const Known& form : kForms)
    if (const char* p = form.scan(at, end, t)) return *pattern = form.name, p;
  if (const char* p = scan_syslog_time(at, end, reference, t)) return *pattern = "syslog_time", p;
  const char* day_first = scan_ordered_time(at, end, DayOrder::day_first, t);
  const char* month_first = scan_ordered_time(at, end, DayOrder::month_first, t);
  if (const char* p = scan_yearless_time(at, end, reference, t)) return *pattern = "yearless_time", p;
  if (day_first && month_first) return *pattern = kEitherOrder, day_first;
  if (day_first) return *pattern = "day_first_time", day_first;
  if (month_first) return *pattern = "month_first_time", month_first;
  if (first) {
    if (const char* p = scan_compact_time(at, end, t)) return *pattern = "compact_time", p;
    if (const char* p = scan_clock_time(at, end, reference, t)) return *pattern = "clock_time", p;
    if (is_letter(*at))  // a zone in front
      if (const char* p = scan_any_time(at, end, reference, DayOrder::either, t)) return *pattern = "time", p;
  }
  // Seconds since 1970, where they lie within some twenty years.
  if (const char* p = scan_epoch_time(at, end, t); p != nullptr && t.nanoseconds > 1'000'000'000 * kSecond &&
                                                   t.nanoseconds < 2'200'000'000 * kSecond &&
                                                   (p == end || !word_byte(*p)))
    return *pattern = "epoch", p;
  return nullptr;
}

}  // namespace

const char* pattern_of(const Token& token) {
  switch (token.kind) {
    case Form::time: return token.pattern;
    case Form::word: return "word";
    case Form::dotted: return "class_name";
    case Form::path: return "path";
    case Form::integer: return "int";
    case Form::decimal: return "decimal";
    case Form::hex: return "hex";
    case Form::ip: return "ip";
    case Form::mac: return "mac";
    case Form::uuid: return "uuid";
    case Form::trace_id: return "trace_id";
    case Form::span_id: return "span_id";
    case Form::uri: return "uri";
    case Form::email: return "email";
    case Form::duration: return "duration";
    case Form::size: return "size";
    case Form::percent: return "percent";
    case Form::quoted: return "quoted";
    case Form::json: return "json";
    default: return "";
  }
}

std::vector<Token> tokens_of(std::string_view line, std::int64_t reference) {
  constexpr std::size_t kMost = 400;
  static const Lexeme* const kHex = builtin_lexeme("hex");
  static const Lexeme* const kQuoted = builtin_lexeme("quoted");
  static const Lexeme* const kIp = builtin_lexeme("ip");
  std::vector<Token> all;
  const char* at = line.data();
  const char* const end = at + line.size();
  bool first = true;  // no value yet
  auto take = [&](Form kind, const char* to, const char* pattern = "") {
    first = first && (kind == Form::blank || kind == Form::sign);
    all.push_back({kind, {at, static_cast<std::size_t>(to - at)}, pattern});
    at = to;
  };
  while (at != end) {
    if (all.size() == kMost) {
      take(Form::word, end);
      break;
    }
    const char c = *at;
    if (c == ' ' || c == '\t') {
      const char* p = at;
      while (p != end && (*p == ' ' || *p == '\t')) ++p;
      take(Form::blank, p);
      continue;
    }
    const bool begins = at == line.data() || !word_byte(at[-1]);
    Value value;
    const char* p = nullptr;
    const char* pattern = "";
    if (begins && (is_digit(c) || is_letter(c) || c == '@') &&
        (p = time_at(at, end, reference, first, &pattern))) {
      if (p == end || !word_byte(*p)) {
        take(Form::time, p, pattern);
        continue;
      }
    }
    if (begins) {
      // A typed value stands alone: no letter or digit follows it.
      static const std::pair<Form, const Lexeme*> kTyped[] = {{Form::uuid, builtin_lexeme("uuid")},
                                                              {Form::mac, builtin_lexeme("mac")},
                                                              {Form::ip, builtin_lexeme("ip")},
                                                              {Form::trace_id, builtin_lexeme("trace_id")},
                                                              {Form::span_id, builtin_lexeme("span_id")},
                                                              {Form::percent, builtin_lexeme("percent")},
                                                              {Form::duration, builtin_lexeme("duration")},
                                                              {Form::size, builtin_lexeme("size")},
                                                              {Form::integer, builtin_lexeme("int")},
                                                              {Form::decimal, builtin_lexeme("decimal")}};
      const char* best = nullptr;
      Form kind = Form::word;
      for (const auto& [k, lexeme] : kTyped) {
        const char* q = scan(*lexeme, at, end, value);
        if (q == nullptr || q <= best || (q != end && word_byte(*q) && q[-1] != '%')) continue;
        const std::string_view text(at, static_cast<std::size_t>(q - at));
        if ((k == Form::span_id || k == Form::trace_id) && text.find_first_of("abcdefABCDEF") == text.npos)
          continue;
        if (k == Form::ip && text.find("::") == 0 && text.size() < 3) continue;
        if (k == Form::duration && text.find(':') != text.npos) continue;  // a time of day rather
        if (k == Form::duration && !is_digit(c) && c != '-') continue;
        if (k == Form::integer && q != end && *q == '.' && q + 1 != end && is_digit(q[1])) continue;
        if (k == Form::decimal && text.find_first_of("eE") != text.npos) continue;
        if ((k == Form::decimal || k == Form::integer) && q != end && *q == '.' && q + 1 != end &&
            is_digit(q[1]))
          continue;
        if ((k == Form::decimal || k == Form::integer) && (c == '+' || c == '.')) continue;
        best = q;
        kind = k;
      }
      if (best != nullptr && !(kind == Form::integer && best - at > 1 && c == '0' && best - at > 18)) {
        take(kind, best);
        continue;
      }
      if (c == '0' && end - at > 2 && (at[1] | 0x20) == 'x' && (p = scan(*kHex, at, end, value)) &&
          (p == end || !word_byte(*p))) {
        take(Form::hex, p);
        continue;
      }
      if (is_letter(c)) {
        p = at;
        while (p != end && (is_letter(*p) || is_digit(*p) || *p == '+' || *p == '.' || *p == '-')) ++p;
        if (end - p > 3 && std::string_view(p, 3) == "://") {
          while (p != end && static_cast<unsigned char>(*p) > ' ' && *p != '"' && *p != '<' && *p != '>' &&
                 *p != ',' && *p != ')' && *p != ']' && *p != '\'')
            ++p;
          take(Form::uri, p);
          continue;
        }
      }
      if (c == '/' && end - at > 1 && (word_byte(at[1]) || at[1] == '.')) {
        p = at;
        while (p != end && static_cast<unsigned char>(*p) > ' ' &&
               std::string_view("\"'<>|,;()[]{}").find(*p) == std::string_view::npos)
          ++p;
        while (p[-1] == ':' || p[-1] == '.') --p;
        take(Form::path, p);
        continue;
      }
    }
    if ((c == '"' || c == '\'') && begins && (p = scan(*kQuoted, at, end, value)) &&
        (p == end || !word_byte(*p)) && (c == '"' || p - at < 80)) {
      if (const char* q = scan(*kIp, at + 1, end, value); q == p - 1) {  // the address itself
        take(Form::sign, at + 1);
        take(Form::ip, q);
        take(Form::sign, p);
        continue;
      }
      take(Form::quoted, p);
      continue;
    }
    if ((c == '{' || c == '[') && (p = json_end(at, end)) && p - at > 2) {
      Arena arena;
      const Form kind = Form::json;
      if ((c == '{' || at[1] == '{') && !json_value({at, static_cast<std::size_t>(p - at)}, arena).absent()) {
        take(kind, p);
        continue;
      }
    }
    if (word_byte(c) && c != '-') {
      p = at;
      bool dots = false;
      const char* sign = nullptr;  // the first @
      while (p != end &&
             (word_byte(*p) || ((*p == '.' || *p == '$' || *p == '@') && p + 1 != end && word_byte(p[1])))) {
        dots |= sign == nullptr && (*p == '.' || *p == '$');
        if (*p == '@' && sign == nullptr) sign = p;
        ++p;
      }
      if (sign != nullptr) {
        const std::string_view domain(sign + 1, static_cast<std::size_t>(p - sign - 1));
        if (domain.find('.') != std::string_view::npos &&
            domain.find_first_of("@$_") == std::string_view::npos) {
          take(Form::email, p);
          continue;
        }
        p = sign;  // a name at a host, or at a database
      }
      take(dots ? Form::dotted : Form::word, p);
      continue;
    }
    take(Form::sign, at + 1);
  }
  return all;
}

namespace {

// Calls `take` with each piece of the line's shape, and whether it is a word of the line.
template <class Take>
void each_piece(std::string_view line, std::int64_t reference, bool with_words, Take&& take) {
  constexpr std::size_t kLongest = 200;
  std::size_t size = 0;
  for (const Token& token : tokens_of(line.substr(0, 2000), reference)) {
    if (size >= kLongest) break;
    const bool word = token.kind == Form::word && with_words &&
                      std::none_of(token.text.begin(), token.text.end(), is_digit);
    const std::string piece =
        token.kind == Form::blank ? " "
        : word || token.kind == Form::sign
            ? std::string(token.text)
            : std::string("{") + (token.kind == Form::time ? "time" : pattern_of(token)) + "}";
    size += piece.size();
    take(piece, word);
  }
}

std::string shape_of(std::string_view line, std::int64_t reference, bool with_words) {
  std::string shape;
  each_piece(line, reference, with_words, [&](const std::string& piece, bool) { shape += piece; });
  return shape;
}

}  // namespace

std::string shape_of(std::string_view line, std::int64_t reference) {
  return shape_of(line, reference, true);
}
std::string bare_shape_of(std::string_view line, std::int64_t reference) {
  return shape_of(line, reference, false);
}

std::string shape_of(std::string_view line, std::int64_t reference, std::vector<std::string>& pieces,
                     std::vector<bool>& words) {
  std::string shape;
  pieces.clear();
  words.clear();
  each_piece(line, reference, true, [&](const std::string& piece, bool word) {
    shape += piece;
    pieces.push_back(piece);
    words.push_back(word);
  });
  return shape;
}

}  // namespace dingle
