// Lines as tokens, as a person sees them at first glance: times, addresses, numbers, quoted texts, words,
// signs.
#pragma once

#include <cstdint>
#include <string>
#include <string_view>
#include <vector>

namespace dingle {

struct Token {
  enum class Form : std::uint8_t {
    end,  // of the line
    blank,
    sign,
    word,    // letters, digits, _ and -
    dotted,  // the same with dots between: class names, hosts, versions
    path,    // begins with a slash
    integer,
    decimal,
    hex,
    time,
    ip,
    mac,
    uuid,
    trace_id,
    span_id,
    uri,
    email,
    duration,
    size,
    percent,
    quoted,
    json,
  };
  Form kind = Form::end;
  std::string_view text;
  const char* pattern = "";  // of a time: the narrowest pattern that takes it
};

// The "pattern" of a time whose day and month can be read either way round.
inline constexpr const char* kEitherOrder = "?";

// The whole line, without gaps. `reference`: ns since 1970 UTC, for times without a year. At most 400 tokens;
// what is beyond is one word. Linear in the line, but for patterns that are tried at a place.
std::vector<Token> tokens_of(std::string_view line, std::int64_t reference);

// The name of the pattern that stands for a kind: "int", "ip", ...; "" for signs and blanks.
const char* pattern_of(const Token& token);

// A line with its values taken out: "{time} {word} berth {int} free". Lines of one shape differ only in
// values. Words with digits in them count as values, others as text. At most 200 bytes.
std::string shape_of(std::string_view line, std::int64_t reference);
// The same, and the pieces that it is put together of: which of them are words of the line.
std::string shape_of(std::string_view line, std::int64_t reference, std::vector<std::string>& pieces,
                     std::vector<bool>& words);
// The same without a word of the line: "{time} {word} {word} {int} {word}".
std::string bare_shape_of(std::string_view line, std::int64_t reference);

}  // namespace dingle
