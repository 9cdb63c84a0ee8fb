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
      {"alphabetic", letters(), 1, "letters", "GET", "42"},
      {"digits", digits(), 1, "digits", "007", "x"},
      {"alphanumeric", alphanumeric, 1, "letters and digits", "A7f", "-"},
      {"hostname", alphanumeric | ByteClass::of(".-_"), 1, "a host name", "gate-7.skerry.example", "/"},
      {"path", ~spaces() & ~ByteClass::of("\"'<>|"), 1, "a path", "/var/log/skerry/gate.log", "\""},
      {"key", alphanumeric | ByteClass::of("_.-"), 1, "a key (letters, digits, _ . -)", "http.status", "="},
      {"class_name", alphanumeric | ByteClass::of("_.$"), 1, "a class name",
       "example.skerry.berthing.Planner$Slot", " "},
      {"thread_name", ~ByteClass::of("[]()\r\n\t"), 1, "a thread's name", "main\npool-1-thread-7", "]"},
      {"user_agent", ~ByteClass::of("\"\r\n\t"), 1, "a user agent",
       "Mozilla/5.0 (X11; Linux x86_64) Skerry/1.2", "\""},
      {"kube_name", ByteClass::range('a', 'z') | digits() | ByteClass::of("-."), 1, "a name of Kubernetes",
       "gate-7d9c5b-x2x9p\nskerry-line", "Gate"},
  };
}

struct SourcePattern {
  const char* name;
  PatternForm form;
  const char* source;
  const char* description;
  const char* examples;
  const char* counter_examples;
};

constexpr SourcePattern kSourcePatterns[] = {
    {"email", PatternForm::regex, "[A-Za-z0-9._%+-]+@[A-Za-z0-9-]+(?:\\.[A-Za-z0-9-]++)+",
     "an e-mail address", "desk@skerry.example", "desk"},
    {"exception_name", PatternForm::regex, "[A-Za-z_$][\\w$]*(?:\\.[A-Za-z_$][\\w$]*+)+",
     "an exception's name with its package", "example.skerry.BerthTakenException\njava.lang.Error", "Error"},
    {"http_request", PatternForm::template_text,
     "{http.request.method:alphabetic} {url.original:unspaced}{[} HTTP/{network.protocol.version:decimal}{]}",
     "an HTTP request line", "GET /gate/7?x=1 HTTP/1.1\nPOST /scan", "GET"},
    {"exception", PatternForm::template_text, "{exception.type:exception_name}{[}: {exception.message}{]}",
     "the head of an exception", "example.skerry.BerthTakenException: berth 4 is taken\njava.lang.Error",
     "berth 4"},
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
         .lexeme = &lexeme,
         .bytes = lexeme.first,
         .at_least = 0,
         .source = "",
         .builtin = true});
  for (const FieldPattern& fields : builtin_field_patterns())
    add({.name = fields.name,
         .form = PatternForm::fields,
         .kind = fields.shy ? Kind::text : Kind::map,
         .description = fields.description,
         .examples = lines_of(fields.example),
         .counter_examples = lines_of(fields.not_example),
         .fields = &fields,
         .bytes = fields.first,
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
         .bytes = p.bytes,
         .at_least = p.at_least,
         .source = "",
         .builtin = true});
  for (const SourcePattern& p : kSourcePatterns)
    add({.name = p.name,
         .form = p.form,
         .kind = Kind::text,
         .description = p.description,
         .examples = lines_of(p.examples),
         .counter_examples = lines_of(p.counter_examples),
         .bytes = {},
         .at_least = 0,
         .source = p.source,
         .builtin = true});
}

bool PatternLibrary::add(Pattern pattern) {
  auto [it, added] = patterns_.try_emplace(pattern.name, pattern);
  if (added) order_.push_back(&it->second);
  return added;
}

void PatternLibrary::replace(Pattern pattern) {
  auto it = patterns_.find(pattern.name);
  if (it == patterns_.end())
    add(std::move(pattern));
  else
    it->second = std::move(pattern);
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
