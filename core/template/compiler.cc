#include "core/template/compiler.h"

#include <algorithm>

#include "core/nearest.h"

namespace dingle {
namespace {

constexpr std::size_t kMostElements = 4000;
constexpr std::size_t kMostSlots = 500;
constexpr std::size_t kDeepestPattern = 12;

}  // namespace

void TemplateCompiler::Starters::add(const Starters& other) {
  literals.insert(literals.end(), other.literals.begin(), other.literals.end());
  delimiters = delimiters | other.delimiters;
  elements.insert(elements.end(), other.elements.begin(), other.elements.end());
  end |= other.end;
}

void TemplateCompiler::compile(const std::vector<Part>& parts, bool open_end) {
  Starters after;
  after.end = true;
  out_.open_end_ = open_end;
  sequence(parts, after, {});
}

void TemplateCompiler::bad(std::string message, std::string hint, const Part& p, const Origin& origin) {
  if (origin.nested)
    problems_.push_back({"in the pattern `" + origin.chain.back() + "`: " + message, std::move(hint),
                         origin.offset, origin.length});
  else
    problems_.push_back({std::move(message), std::move(hint), p.offset, p.length});
}

const std::vector<Part>& TemplateCompiler::parts_of(const Pattern& pattern) const {
  auto [it, added] = nested_parts_.try_emplace(pattern.name);
  if (added) {
    std::vector<Problem> ignored;  // reported where the pattern is defined
    it->second = parse_template(pattern.source, ignored);
  }
  return it->second;
}

// ---- what may follow
// -------------------------------------------------------------------------------------------

bool TemplateCompiler::add_starters(const Part& p, Starters& to, std::size_t depth) const {
  if (depth > kDeepestPattern) return false;
  switch (p.form) {
    case Part::Form::literal: to.literals.push_back(p.text); return false;
    case Part::Form::blanks: to.delimiters = to.delimiters | classes::blanks(); return false;
    case Part::Form::regex: {
      auto regex = Regex::compile(p.text, Regex::Where::anchored);
      to.elements.emplace_back(regex ? regex->first() : ByteClass::any(), "a regex");
      return false;
    }
    case Part::Form::optional:
    case Part::Form::choice: {
      bool may_be_nothing = p.form == Part::Form::optional;
      for (const auto& branch : p.branches) may_be_nothing |= add_starters(branch, 0, to, depth + 1);
      return may_be_nothing;
    }
    case Part::Form::capture: break;
  }
  const Pattern* pattern = library_.find(p.text);
  if (pattern == nullptr) return false;
  const std::string source = "{" + p.field + ":" + p.text + "}";
  switch (pattern->form) {
    case PatternForm::lexeme: to.elements.emplace_back(pattern->bytes, source); return false;
    case PatternForm::text: to.elements.emplace_back(pattern->bytes, source); return pattern->at_least == 0;
    case PatternForm::regex: {
      auto regex = Regex::compile(pattern->source, Regex::Where::anchored);
      to.elements.emplace_back(regex ? regex->first() : ByteClass::any(), source);
      return false;
    }
    case PatternForm::template_text: return add_starters(parts_of(*pattern), 0, to, depth + 1);
  }
  return false;
}

// The literal text that a sequence begins with. Adjacent literals are one, also across the borders of named
// templates.
std::string TemplateCompiler::literal_start(const std::vector<Part>& parts, std::size_t from,
                                            std::size_t depth) const {
  std::string text;
  for (std::size_t i = from; i < parts.size() && depth <= kDeepestPattern; ++i) {
    if (parts[i].form == Part::Form::literal) {
      text += parts[i].text;
      continue;
    }
    const Pattern* pattern = parts[i].form == Part::Form::capture ? library_.find(parts[i].text) : nullptr;
    if (pattern != nullptr && pattern->form == PatternForm::template_text)
      text += literal_start(parts_of(*pattern), 0, depth + 1);
    break;
  }
  return text;
}

bool TemplateCompiler::add_starters(const std::vector<Part>& parts, std::size_t from, Starters& to,
                                    std::size_t depth) const {
  if (from < parts.size())
    if (std::string literal = literal_start(parts, from, depth); !literal.empty()) {
      to.literals.push_back(std::move(literal));
      return false;
    }
  return from >= parts.size() ||
         (add_starters(parts[from], to, depth) && add_starters(parts, from + 1, to, depth));
}

TemplateCompiler::Starters TemplateCompiler::starters(const std::vector<Part>& parts, std::size_t from,
                                                      const Starters& after) const {
  Starters result;
  if (add_starters(parts, from, result, 0)) result.add(after);
  return result;
}

// ---- elements
// --------------------------------------------------------------------------------------------------

Template::Element& TemplateCompiler::add(Template::Op op, std::size_t operand, const Part& p,
                                         const Origin& origin) {
  Template::Element e;
  e.op = op;
  e.operand = static_cast<std::uint32_t>(operand);
  e.next = static_cast<std::uint32_t>(out_.elements_.size() + 1);
  e.offset = static_cast<std::uint32_t>(origin.nested ? origin.offset : p.offset);
  e.length = static_cast<std::uint32_t>(origin.nested ? origin.length : p.length);
  if (out_.elements_.size() == kMostElements)
    bad("the template has more than 4000 elements", "split it", p, origin);
  out_.elements_.push_back(e);
  return out_.elements_.back();
}

std::int16_t TemplateCompiler::slot(const std::string& field, Kind kind, const Part& p,
                                    const Origin& origin) {
  if (field.empty()) return -1;
  if (in_optional_) out_.has_optional_slots_ = true;
  if (std::find(taken_.begin(), taken_.end(), field) != taken_.end()) {
    bad("the field `" + field + "` is captured twice", "give one of them another name, or keep only one", p,
        origin);
    return -1;
  }
  taken_.push_back(field);
  for (std::size_t i = 0; i < out_.slots_.size(); ++i)
    if (out_.slots_[i].name == field) return static_cast<std::int16_t>(i);
  if (out_.slots_.size() == kMostSlots) {
    bad("the template has more than 500 captures", "split it", p, origin);
    return -1;
  }
  out_.slots_.push_back({field, field_id(field), kind});
  return static_cast<std::int16_t>(out_.slots_.size() - 1);
}

void TemplateCompiler::sequence(const std::vector<Part>& parts, const Starters& after, const Origin& origin) {
  for (std::size_t i = 0; i < parts.size() && out_.elements_.size() <= kMostElements; ++i)
    part(parts[i], starters(parts, i + 1, after), origin);
}

void TemplateCompiler::part(const Part& p, const Starters& after, const Origin& origin) {
  switch (p.form) {
    case Part::Form::literal:
      out_.literals_.push_back(p.text);
      add(Template::Op::literal, out_.literals_.size() - 1, p, origin);
      return;
    case Part::Form::blanks: add(Template::Op::blanks, 0, p, origin); return;
    case Part::Form::regex:
      regex(p.text, Kind::text, "text that matches /" + p.text + "/", p, origin, p.text_offset);
      return;
    case Part::Form::optional:
    case Part::Form::choice: group(p, after, origin); return;
    case Part::Form::capture: capture(p, after, origin); return;
  }
}

void TemplateCompiler::group(const Part& p, const Starters& after, const Origin& origin) {
  const bool optional = p.form == Part::Form::optional;
  const std::size_t which = out_.branches_.size();
  out_.branches_.emplace_back();
  const std::size_t element = out_.elements_.size();
  add(optional ? Template::Op::optional : Template::Op::choice, which, p, origin);
  const bool was_optional = in_optional_;
  in_optional_ = true;
  const std::vector<std::string> taken_before = taken_;
  std::vector<std::string> taken_after = taken_;
  for (const auto& branch : p.branches) {
    taken_ = taken_before;  // branches exclude each other and may use the same names
    auto first = static_cast<std::uint32_t>(out_.elements_.size());
    sequence(branch, after, origin);
    out_.branches_[which].push_back({first, static_cast<std::uint32_t>(out_.elements_.size())});
    taken_after.insert(taken_after.end(), taken_.begin() + static_cast<std::ptrdiff_t>(taken_before.size()),
                       taken_.end());
    if (branch.empty())
      bad(optional ? "an empty optional part" : "an empty alternative",
          optional ? "remove it" : "put {[} ... {]} around the others instead", p, origin);
  }
  taken_ = taken_after;
  in_optional_ = was_optional;
  out_.elements_[element].next = static_cast<std::uint32_t>(out_.elements_.size());
}

void TemplateCompiler::regex(const std::string& source, Kind kind, const std::string& description,
                             const Part& p, const Origin& origin, std::size_t source_offset) {
  auto compiled = Regex::compile(source, Regex::Where::anchored);
  if (!compiled) {
    Problem problem = compiled.problem();
    if (origin.nested || p.form == Part::Form::capture)
      bad(problem.message, problem.hint, p, origin);
    else
      problems_.push_back({problem.message, problem.hint, source_offset + problem.offset, problem.length});
    return;
  }
  out_.regexes_.push_back({std::move(*compiled), kind, description});
  std::int16_t s = slot(p.field, kind, p, origin);
  add(Template::Op::regex, out_.regexes_.size() - 1, p, origin).slot = s;
}

void TemplateCompiler::text(const Pattern& pattern, const Part& p, const Starters& after,
                            const Origin& origin) {
  for (const auto& [first, source] : after.elements)
    if (first.meets(pattern.bytes)) {
      bad("nothing says where `{" + p.field + ":" + p.text + "}` ends: " + source +
              " may start with what it may contain",
          "put a literal text between them, or use a pattern of fewer signs, such as {" + p.field + ":word}",
          p, origin);
      return;
    }
  Template::TextScan scan;
  scan.at_least = pattern.at_least;
  scan.description = pattern.description;
  for (unsigned b = 0; b < 256; ++b)
    scan.flags[b] = (pattern.bytes.has(static_cast<unsigned char>(b)) ? 1 : 0) |
                    (after.delimiters.has(static_cast<unsigned char>(b)) ? 2 : 0);
  scan.delimiters = after.delimiters;
  for (const std::string& literal : after.literals)
    if (std::find(scan.literals.begin(), scan.literals.end(), literal) == scan.literals.end()) {
      scan.literals.push_back(literal);
      scan.flags[static_cast<unsigned char>(literal[0])] |= 2;
    }
  std::int16_t s = slot(p.field, Kind::text, p, origin);
  if (pattern.bytes.all() && scan.literals.empty() && scan.delimiters.empty() && after.elements.empty()) {
    add(Template::Op::rest, 0, p, origin).slot = s;
    return;
  }
  if (pattern.bytes.all() && scan.literals.size() == 1 && scan.delimiters.empty() && scan.at_least == 0)
    scan.single = scan.literals[0];
  out_.texts_.push_back(std::move(scan));
  add(Template::Op::text, out_.texts_.size() - 1, p, origin).slot = s;
}

void TemplateCompiler::capture(const Part& p, const Starters& after, const Origin& origin) {
  const Pattern* pattern = library_.find(p.text);
  if (pattern == nullptr) {
    Problem problem{"unknown pattern `" + p.text + "`", did_you_mean(p.text, library_.names()), p.text_offset,
                    p.text.size()};
    if (problem.hint.empty())
      problem.hint =
          "`dingle patterns` lists them; a regex stands between slashes: {" + p.field + ":/" + p.text + "/}";
    if (origin.nested)
      bad(problem.message, problem.hint, p, origin);
    else
      problems_.push_back(std::move(problem));
    return;
  }
  switch (pattern->form) {
    case PatternForm::lexeme: {
      out_.lexemes_.push_back({pattern->scan, pattern->description});
      std::int16_t s = slot(p.field, pattern->kind, p, origin);
      add(Template::Op::lexeme, out_.lexemes_.size() - 1, p, origin).slot = s;
      return;
    }
    case PatternForm::text: return text(*pattern, p, after, origin);
    case PatternForm::regex:
      return regex(pattern->source, pattern->kind,
                   pattern->description.empty() ? "`" + pattern->name + "`" : pattern->description, p, origin,
                   0);
    case PatternForm::template_text: break;
  }
  if (std::find(origin.chain.begin(), origin.chain.end(), pattern->name) != origin.chain.end()) {
    std::string chain;
    for (const std::string& name : origin.chain) chain += name + " → ";
    bad("the pattern `" + pattern->name + "` uses itself: " + chain + pattern->name, "break the circle", p,
        origin);
    return;
  }
  if (origin.chain.size() >= kDeepestPattern) return bad("patterns are nested deeper than 12", "", p, origin);
  Origin inner = origin;
  if (!origin.nested) inner.offset = p.offset, inner.length = p.length;
  inner.nested = true;
  inner.chain.push_back(pattern->name);
  const std::size_t element = out_.elements_.size();
  std::int16_t s = slot(p.field, Kind::text, p, origin);
  add(Template::Op::span, 0, p, origin).slot = s;
  sequence(parts_of(*pattern), after, inner);
  out_.elements_[element].next = static_cast<std::uint32_t>(out_.elements_.size());
}

}  // namespace dingle
