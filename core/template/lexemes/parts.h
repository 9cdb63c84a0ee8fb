// What the built-in patterns are registered with, and what they share. Internal to core/template/lexemes.
#pragma once

#include <string_view>
#include <vector>

#include "core/ascii.h"
#include "core/template/lexemes.h"

namespace dingle {

void add_number_lexemes(std::vector<Lexeme>& all);
void add_word_lexemes(std::vector<Lexeme>& all);
void add_address_lexemes(std::vector<Lexeme>& all);
void add_time_lexemes(std::vector<Lexeme>& all);

FieldPattern endpoint_pattern();
FieldPattern uri_pattern();
FieldPattern csv_pattern();
FieldPattern pairs_pattern();
FieldPattern json_pattern();
FieldPattern xml_pattern();
FieldPattern syslog_priority_pattern();
FieldPattern syslog_pattern();
FieldPattern traceparent_pattern();

inline Value text_between(const char* from, const char* to) {
  return Value::text({from, static_cast<std::size_t>(to - from)});
}

const char* scan_integer(const char* at, const char* end, const MatchContext&, const void*, Value& out);
const char* scan_decimal(const char* at, const char* end, const MatchContext&, const void*, Value& out);
const char* scan_quoted(const char* at, const char* end, const MatchContext& context, const void*,
                        Value& out);
const char* ipv4_end(const char* at, const char* end);
const char* ipv6_end(const char* at, const char* end);

// How the cells of CSV, the values of pairs and the items of a list are typed: by a typed pattern, or as
// text.
struct CellType {
  LexemeScan scan = nullptr;  // nullptr: text
  Kind kind = Kind::text;
};
// The typed pattern of that name; a problem at `p` if it is neither that nor `text`.
CellType cell_type(ParameterReader& parameters, const Parameter& p, std::string_view name);
// The whole text as a value of the type; text stays text where it is none.
Value typed_cell(std::string_view text, const CellType& type, const MatchContext& context);
// "42" an int, "4.5" a decimal, "true" a boolean, anything else text.
Value guessed_value(std::string_view text, const MatchContext& context);

}  // namespace dingle
