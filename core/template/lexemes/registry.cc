// The list of the built-in typed patterns, and what they share.
#include <algorithm>

#include "core/json_text.h"
#include "core/nearest.h"
#include "core/template/lexemes/parts.h"
#include "core/template/library.h"

namespace dingle {

const std::vector<Lexeme>& builtin_lexemes() {
  static const std::vector<Lexeme> all = [] {
    std::vector<Lexeme> lexemes;
    add_number_lexemes(lexemes);
    add_word_lexemes(lexemes);
    add_address_lexemes(lexemes);
    add_time_lexemes(lexemes);
    return lexemes;
  }();
  return all;
}

const Lexeme* builtin_lexeme(std::string_view name) {
  for (const Lexeme& lexeme : builtin_lexemes())
    if (lexeme.name == name) return &lexeme;
  return nullptr;
}

const std::vector<FieldPattern>& builtin_field_patterns() {
  static const std::vector<FieldPattern> all{
      endpoint_pattern(),        uri_pattern(),    json_pattern(),
      pairs_pattern(),           csv_pattern(),    xml_pattern(),
      syslog_priority_pattern(), syslog_pattern(), traceparent_pattern()};
  return all;
}

const char* FieldScan::scan_whole(const char* at, const char* end, const MatchContext& context,
                                  Value& out) const {
  thread_local std::vector<Value> columns(kMostFieldColumns);
  thread_local std::vector<Field> members;
  std::fill_n(columns.begin(), columns_.size(), Value());
  members.clear();
  MatchContext own = context;
  own.found = &members;
  const char* p = scan(at, end, own, "", columns.data());
  if (p == nullptr) return nullptr;
  if (context.arena == nullptr) {
    out = text_between(at, p);
    return p;
  }
  std::string json = "{";
  auto member = [&](std::string_view name, const Value& value) {
    if (value.absent()) return;
    if (json.size() > 1) json += ',';
    append_json_string(json, name);
    json += ':';
    value.append_json(json);
  };
  for (std::size_t i = 0; i < columns_.size(); ++i) member(columns_[i].name, columns[i]);
  for (const Field& f : members) member(field_name(f.name), f.value);
  json += '}';
  out = Value::map(context.arena->copy(json));
  return p;
}

CellType cell_type(ParameterReader& parameters, const Parameter& p, std::string_view name) {
  if (name == "text") return {};
  if (const Lexeme* lexeme = builtin_lexeme(name); lexeme != nullptr) return {lexeme->scan, lexeme->kind};
  std::vector<std::string> names{"text"};
  for (const Lexeme& lexeme : builtin_lexemes()) names.emplace_back(lexeme.name);
  parameters.bad(p, "`" + std::string(name) + "` is no typed pattern", did_you_mean(name, names));
  return {};
}

Value typed_cell(std::string_view text, const CellType& type, const MatchContext& context) {
  if (type.scan == nullptr || text.empty()) return Value::text(text);
  Value value;
  const char* end = text.data() + text.size();
  return type.scan(text.data(), end, context, nullptr, value) == end ? value : Value::text(text);
}

Value guessed_value(std::string_view text, const MatchContext& context) {
  if (text.empty()) return Value::text(text);
  const char* end = text.data() + text.size();
  Value value;
  const char c = text[0];
  if (is_digit(c) || c == '-' || c == '.') {
    // A number as people write one: 007 and 1. are texts.
    const std::size_t digits = c == '-' ? 1 : 0;
    const bool padded = text.size() > digits + 1 && text[digits] == '0' && is_digit(text[digits + 1]);
    if (!padded && scan_integer(text.data(), end, context, nullptr, value) == end) return value;
    if (!padded && scan_decimal(text.data(), end, context, nullptr, value) == end) return value;
  } else if (text == "true" || text == "false") {
    return Value::boolean(c == 't');
  }
  return Value::text(text);
}

}  // namespace dingle
