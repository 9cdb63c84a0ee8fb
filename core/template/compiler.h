// Compiles the tree of a template's parts into elements. Used by Template::compile only.
#pragma once

#include <map>

#include "core/template/template.h"

namespace dingle {

class TemplateCompiler {
 public:
  TemplateCompiler(Template& out, const PatternLibrary& library, std::vector<Problem>& problems)
      : out_(out), program_(out.program_), library_(library), problems_(problems) {}
  void compile(const std::vector<Part>& parts, bool open_end);

 private:
  // What the rest of a template may start with.
  struct Starters {
    std::vector<EndLiteral> literals;
    ByteClass delimiters;  // blanks
    std::vector<std::pair<ByteClass, std::string>>
        elements;      // first bytes of typed patterns, texts, regexes; their source
    bool end = false;  // the line may end here
    void add(const Starters& other);
  };
  // Where the elements come from: the template itself, or a named pattern used at one place of it.
  struct Origin {
    std::size_t offset = 0, length = 0;
    bool nested = false;
    std::vector<std::string> chain;  // names of the patterns that are being expanded
    std::string prefix;              // of the names of their fields
  };

  void sequence(const std::vector<Part>& parts, const Starters& after, const Origin& origin);
  void part(const Part& p, const Starters& after, const Origin& origin);
  void capture(const Part& p, const Starters& after, const Origin& origin);
  void never_matches(const Part& p, const Part& next, const Origin& origin);
  void group(const Part& p, const Starters& after, const Origin& origin);
  void regex(const std::string& source, Kind kind, const std::string& description, const Part& p,
             const Origin& origin, std::size_t source_offset);
  void text(const Pattern& pattern, const Part& p, const Starters& after, const Origin& origin);
  void lexeme(const Pattern& pattern, const Part& p, const Origin& origin);
  void fields(const Pattern& pattern, const Part& p, const Starters& after, const Origin& origin);
  void any_case(const Part& p, const Origin& origin);
  static ByteClass first_of(const Pattern& pattern, const Part& p);
  Starters starters(const std::vector<Part>& parts, std::size_t from, const Starters& after) const;
  bool add_starters(const std::vector<Part>& parts, std::size_t from, Starters& to,
                    std::size_t depth) const;                               // true if all may match nothing
  bool add_starters(const Part& p, Starters& to, std::size_t depth) const;  // true if it may match nothing
  std::string literal_start(const std::vector<Part>& parts, std::size_t from, std::size_t depth) const;
  const std::vector<Part>& parts_of(const Pattern& pattern) const;

  Element& add(Element::Op op, std::size_t operand, const Part& p, const Origin& origin);
  std::int16_t slot(const std::string& field, Kind kind, const Part& p, const Origin& origin);
  void bad(std::string message, std::string hint, const Part& p, const Origin& origin);

  Template& out_;
  Program& program_;
  const PatternLibrary& library_;
  std::vector<Problem>& problems_;
  mutable std::map<std::string, std::vector<Part>> nested_parts_;
  std::vector<std::string> taken_;  // names that a second capture may not have
  bool in_optional_ = false;
};

}  // namespace dingle
