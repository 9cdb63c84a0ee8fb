// Named patterns: the built-in ones and the user's.
//
//   PatternLibrary library;                                    // the built-in patterns
//   library.add({.name = "berth", .form = PatternForm::regex, .source = "[A-Z]{2}-\\d{2}"});
//   library.find("berth")->kind;                               // Kind::text
//   library.find("bearth");                                    // nullptr; library.names() for a suggestion
//
// Filled while a configuration is read, then constant: many threads may read it.
#pragma once

#include <map>
#include <string>
#include <string_view>
#include <vector>

#include "core/template/lexemes.h"

namespace dingle {

enum class PatternForm {
  lexeme,         // a typed scanner
  fields,         // a scanner that brings fields of its own
  text,           // bytes of a class, up to what follows
  regex,          // PCRE2 syntax
  template_text,  // another template; brings its own fields
};

struct Pattern {
  std::string name;
  PatternForm form = PatternForm::regex;
  Kind kind = Kind::text;   // of the value; a regex's text is converted to it
  std::string description;  // for "expected ...", with its article
  std::vector<std::string> examples, counter_examples;
  const Lexeme* lexeme = nullptr;        // lexeme
  const FieldPattern* fields = nullptr;  // fields
  ByteClass bytes;           // lexeme, fields: what it may start with; text: what it may consist of
  std::size_t at_least = 0;  // text: its least length in bytes
  std::string source;        // regex, template
  bool builtin = false;
};

class PatternLibrary {
 public:
  PatternLibrary();
  // False if the name is taken.
  bool add(Pattern pattern);
  // Takes the place of a pattern of that name, wherever templates that are compiled from now on use it.
  void replace(Pattern pattern);
  const Pattern* find(std::string_view name) const;  // owned by the library
  std::vector<std::string> names() const;
  const std::vector<const Pattern*>& in_order() const { return order_; }

 private:
  std::map<std::string, Pattern, std::less<>> patterns_;
  std::vector<const Pattern*> order_;
};

// Whether a text is a name for a field (letters, digits, `_`, `-`, `.`; starts with a letter or `_`) or
// pattern.
bool is_field_name(std::string_view name);
bool is_pattern_name(std::string_view name);

}  // namespace dingle
