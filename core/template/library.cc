#include "core/template/library.h"

#include <algorithm>
#include <sstream>

namespace dingle {
namespace {

std::vector<std::string> lines_of(const char* text) {
  std::vector<std::string> lines;
  std::istringstream in(text);
  for (std::string line; std::getline(in, line);) lines.push_back(line);
  return lines;
}

struct TextPattern {
  const char* name;
  ByteClass bytes;
  std::size_t at_least;
  const char* description;
  const char* examples;
  const char* counter_examples;
};

std::vector<TextPattern> text_patterns() {
  using namespace classes;
  const ByteClass alphanumeric = letters() | digits();
  return {
      {"text", ByteClass::any(), 0, "any text", "anything at all", ""},
      {"rest", ByteClass::any(), 0, "the rest of the line", "all that follows", ""},
      {"line", ~ByteClass::of("\n"), 0, "text up to the end of a line", "all of one line", ""},
      {"word", alphanumeric | ByteClass::of("_-") | beyond_ascii(), 1, "a word (letters, digits, _ and -)",
       "Kittiwake\nticket-gate", "/a/b"},
      {"unspaced", ~spaces(), 1, "text without blanks", "/gate/7?x=1\na,b;c", " "},
      {"letters", letters(), 1, "letters", "GET", "42"},
      {"digits", digits(), 1, "digits", "007", "x"},
      {"alphanumeric", alphanumeric, 1, "letters and digits", "A7f", "-"},
      {"hostname", alphanumeric | ByteClass::of(".-_"), 1, "a host name", "gate-7.skerry.example", "/"},
      {"path", ~spaces() & ~ByteClass::of("\"'<>|"), 1, "a path", "/var/log/skerry/gate.log", "\""},
      {"key", alphanumeric | ByteClass::of("_.-"), 1, "a key (letters, digits, _ . -)", "http.status", "="},
      {"class_name", alphanumeric | ByteClass::of("_.$"), 1, "a class name",
       "example.skerry.berthing.Planner$Slot", " "},
  };
}

struct RegexPattern {
  const char* name;
  const char* regex;
  const char* description;
  const char* examples;
  const char* counter_examples;
};

constexpr RegexPattern kRegexPatterns[] = {
    {"uri", "[A-Za-z][A-Za-z0-9+.-]*://[^\\s\"<>]*", "a URI", "https://skerry.example/timetable?ship=tern",
     "skerry"},
    {"email", "[A-Za-z0-9._%+-]+@[A-Za-z0-9-]+(?:\\.[A-Za-z0-9-]+)+", "an e-mail address",
     "desk@skerry.example", "desk"},
};

}  // namespace

PatternLibrary::PatternLibrary() {
  for (const Lexeme& lexeme : builtin_lexemes())
    add({.name = lexeme.name,
         .form = PatternForm::lexeme,
         .kind = lexeme.kind,
         .description = lexeme.description,
         .examples = lines_of(lexeme.example),
         .counter_examples = lines_of(lexeme.not_example),
         .scan = lexeme.scan,
         .bytes = lexeme.first,
         .at_least = 0,
         .source = "",
         .builtin = true});
  for (const TextPattern& p : text_patterns())
    add({.name = p.name,
         .form = PatternForm::text,
         .kind = Kind::text,
         .description = p.description,
         .examples = lines_of(p.examples),
         .counter_examples = lines_of(p.counter_examples),
         .scan = nullptr,
         .bytes = p.bytes,
         .at_least = p.at_least,
         .source = "",
         .builtin = true});
  for (const RegexPattern& p : kRegexPatterns)
    add({.name = p.name,
         .form = PatternForm::regex,
         .kind = Kind::text,
         .description = p.description,
         .examples = lines_of(p.examples),
         .counter_examples = lines_of(p.counter_examples),
         .scan = nullptr,
         .bytes = {},
         .at_least = 0,
         .source = p.regex,
         .builtin = true});
}

bool PatternLibrary::add(Pattern pattern) {
  auto [it, added] = patterns_.try_emplace(pattern.name, pattern);
  if (added) order_.push_back(&it->second);
  return added;
}

const Pattern* PatternLibrary::find(std::string_view name) const {
  auto it = patterns_.find(name);
  return it == patterns_.end() ? nullptr : &it->second;
}

std::vector<std::string> PatternLibrary::names() const {
  std::vector<std::string> all;
  for (const auto& [name, pattern] : patterns_) all.push_back(name);
  return all;
}

bool is_field_name(std::string_view name) {
  auto letter = [](char c) { return (c >= 'a' && c <= 'z') || (c >= 'A' && c <= 'Z') || c == '_'; };
  return !name.empty() && name.size() <= 200 && letter(name[0]) &&
         std::all_of(name.begin(), name.end(),
                     [&](char c) { return letter(c) || (c >= '0' && c <= '9') || c == '.' || c == '-'; });
}

bool is_pattern_name(std::string_view name) {
  return is_field_name(name) && name.find('.') == std::string_view::npos &&
         name.find('-') == std::string_view::npos;
}

}  // namespace dingle
