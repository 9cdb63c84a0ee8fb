#include "core/template/compiler.h"

#include <algorithm>
#include <limits>

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
  const std::size_t before = problems_.size();
  sequence(parts, after, {});
  program_.slots = out_.slots_.size();
  if (problems_.size() == before) program_.fuse(0, static_cast<std::uint32_t>(program_.elements.size()));
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
    case Part::Form::literal: to.literals.push_back({p.text, false}); return false;
    case Part::Form::any_case: to.literals.push_back({p.text, true}); return false;
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
    case PatternForm::fields: to.elements.emplace_back(pattern->bytes, source); return false;
    case PatternForm::lexeme: to.elements.emplace_back(first_of(*pattern, p), source); return false;
    case PatternForm::text: {
      to.elements.emplace_back(pattern->bytes, source);
      std::vector<Problem> ignored;  // reported where the part is compiled
      const auto range = ParameterReader(p.parameters, p.text, ignored).range();
      return range && range->low ? *range->low < 1 : pattern->at_least == 0;
    }
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
      to.literals.push_back({std::move(literal), false});
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

Element& TemplateCompiler::add(Element::Op op, std::size_t operand, const Part& p, const Origin& origin) {
  Element e;
  e.op = op;
  e.operand = static_cast<std::uint32_t>(operand);
  e.next = static_cast<std::uint32_t>(program_.elements.size() + 1);
  e.offset = static_cast<std::uint32_t>(origin.nested ? origin.offset : p.offset);
  e.length = static_cast<std::uint32_t>(origin.nested ? origin.length : p.length);
  if (program_.elements.size() == kMostElements)
    bad("the template has more than 4000 elements", "split it", p, origin);
  program_.elements.push_back(e);
  return program_.elements.back();
}

std::int16_t TemplateCompiler::slot(const std::string& name, Kind kind, const Part& p, const Origin& origin) {
  if (name.empty() || name.back() == '.') return -1;  // a prefix is not kept itself
  const std::string field = origin.prefix + name;
  if (in_optional_) program_.clears = true;
  if (std::find(taken_.begin(), taken_.end(), field) != taken_.end()) {
    bad("the field `" + field + "` is captured twice", "give one of them another name, or keep only one", p,
        origin);
    return -1;
  }
  taken_.push_back(field);
  for (std::size_t i = 0; i < out_.slots_.size(); ++i)
    if (out_.slots_[i].name == field) return static_cast<std::int16_t>(i);
  if (field != "body" && belongs_to_event(field)) {
    bad("`" + field + "` belongs to the event itself: a template cannot capture it",
        field.ends_with("timestamp") ? "capture it as `at`, say, and let the step `time` take it" : "", p,
        origin);
    return -1;
  }
  if (out_.slots_.size() == kMostSlots) {
    bad("the template has more than 500 captures", "split it", p, origin);
    return -1;
  }
  out_.slots_.push_back({field, field_id(field), kind});
  return static_cast<std::int16_t>(out_.slots_.size() - 1);
}

void TemplateCompiler::sequence(const std::vector<Part>& parts, const Starters& after, const Origin& origin) {
  for (std::size_t i = 0; i < parts.size() && program_.elements.size() <= kMostElements; ++i) {
    if (i + 1 < parts.size()) never_matches(parts[i], parts[i + 1], origin);
    part(parts[i], starters(parts, i + 1, after), origin);
  }
}

// A number takes all digits there are, so that a literal which begins with one can never stand behind it.
void TemplateCompiler::never_matches(const Part& p, const Part& next, const Origin& origin) {
  if (p.form != Part::Form::capture || next.form != Part::Form::literal) return;
  const Pattern* pattern = library_.find(p.text);
  if (pattern == nullptr || pattern->form != PatternForm::lexeme) return;
  const ByteClass taken = pattern->name == "hex" ? classes::hex()
                          : pattern->name == "int" || pattern->name == "port" || pattern->name == "decimal" ||
                                  pattern->name == "grouped"
                              ? classes::digits()
                              : ByteClass();
  if (taken.has(static_cast<unsigned char>(next.text[0])))
    bad("this can never match: {" + p.field + ":" + p.text + "} takes every digit, and \"" + next.text +
            "\" behind it begins with one",
        "put something between them, or take a fixed number of digits with {" + p.field + ":digits(..3)}", p,
        origin);
}

void TemplateCompiler::part(const Part& p, const Starters& after, const Origin& origin) {
  switch (p.form) {
    case Part::Form::literal:
      program_.literals.push_back(p.text);
      add(Element::Op::literal, program_.literals.size() - 1, p, origin);
      return;
    case Part::Form::any_case: any_case(p, origin); return;
    case Part::Form::blanks: add(Element::Op::blanks, 0, p, origin); return;
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
  const std::size_t which = program_.branches.size();
  program_.branches.emplace_back();
  const std::size_t element = program_.elements.size();
  add(optional ? Element::Op::optional : Element::Op::choice, which, p, origin);
  const bool was_optional = in_optional_;
  in_optional_ = true;
  const std::vector<std::string> taken_before = taken_;
  std::vector<std::string> taken_after = taken_;
  for (const auto& branch : p.branches) {
    taken_ = taken_before;  // branches exclude each other and may use the same names
    auto first = static_cast<std::uint32_t>(program_.elements.size());
    sequence(branch, after, origin);
    program_.branches[which].push_back({first, static_cast<std::uint32_t>(program_.elements.size())});
    taken_after.insert(taken_after.end(), taken_.begin() + static_cast<std::ptrdiff_t>(taken_before.size()),
                       taken_.end());
    if (branch.empty())
      bad(optional ? "an empty optional part" : "an empty alternative",
          optional ? "remove it" : "put {[} ... {]} around the others instead", p, origin);
  }
  taken_ = taken_after;
  in_optional_ = was_optional;
  program_.elements[element].next = static_cast<std::uint32_t>(program_.elements.size());
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
  if (const Regex::Lint lint = compiled->lint(); !lint.message.empty()) {
    const bool here = !origin.nested && p.form == Part::Form::regex;
    out_.warnings_.push_back(
        {lint.message,
         "make the inner or the outer one possessive (`++`, `*+`), or end the group with text "
         "that must be there",
         here            ? source_offset + lint.offset
         : origin.nested ? origin.offset
                         : p.offset,
         here            ? lint.length
         : origin.nested ? origin.length
                         : p.length});
  }
  const auto groups = compiled->groups();
  program_.regexes.push_back({std::move(*compiled), kind, description, {}});
  const std::int16_t s = slot(p.field, kind, p, origin);
  for (const auto& [name, number] : groups) {
    if (number > Regex::kMostGroups) {
      bad("a regex with more than " + std::to_string(Regex::kMostGroups) + " named groups", "split it", p,
          origin);
      break;
    }
    if (name.front() == '_') continue;  // for back references alone
    if (const std::int16_t own = slot(name, Kind::text, p, origin); own >= 0)
      program_.regexes.back().groups.emplace_back(number, own);
  }
  add(Element::Op::regex, program_.regexes.size() - 1, p, origin).slot = s;
}

void TemplateCompiler::any_case(const Part& p, const Origin& origin) {
  program_.literals.push_back(p.text);
  add(Element::Op::any_case, program_.literals.size() - 1, p, origin);
}

ByteClass TemplateCompiler::first_of(const Pattern& pattern, const Part& p) {
  PreparedLexeme prepared{pattern.lexeme->scan, nullptr, pattern.lexeme->first};
  std::vector<Problem> ignored;  // reported where the part is compiled
  ParameterReader reader(p.parameters, p.text, ignored);
  if (pattern.lexeme->prepare) pattern.lexeme->prepare(reader, prepared);
  return prepared.first;
}

void TemplateCompiler::lexeme(const Pattern& pattern, const Part& p, const Origin& origin) {
  std::vector<Problem> found;
  ParameterReader reader(p.parameters, pattern.name, found);
  PreparedLexeme prepared{pattern.lexeme->scan, nullptr, pattern.lexeme->first};
  LexemeUse use;
  use.description = pattern.description;
  if (!p.parameters.empty() && pattern.lexeme->prepare) pattern.lexeme->prepare(reader, prepared);
  if (!pattern.lexeme->prepare && (pattern.kind == Kind::integer || pattern.kind == Kind::decimal))
    if (auto range = reader.range()) {
      use.ranged = true;
      use.low = range->low.value_or(-std::numeric_limits<double>::infinity());
      use.high = range->high.value_or(std::numeric_limits<double>::infinity());
      use.description += " within " + p.parameters[0].value;
    }
  std::vector<std::string> known;
  for (const char* name : {"zone", "order", "separator", "open", "close"})
    if (std::string_view(pattern.lexeme->parameters).find(std::string(name) + "=") != std::string_view::npos)
      known.emplace_back(name);
  reader.finish(known);
  for (Problem& problem : found) {
    if (origin.nested)
      bad(problem.message, problem.hint, p, origin);
    else
      problems_.push_back(problem);
  }
  use.scan = prepared.scan;
  use.settings = prepared.settings;
  if (!use.settings && !use.ranged)
    use.fast = pattern.name == "int"                            ? LexemeUse::Fast::integer
               : pattern.name == "decimal"                      ? LexemeUse::Fast::decimal
               : pattern.name == "ip" || pattern.name == "ipv4" ? LexemeUse::Fast::ip
               : pattern.name == "clf_time"                     ? LexemeUse::Fast::clf_time
                                                                : LexemeUse::Fast::none;
  program_.lexemes.push_back(std::move(use));
  std::int16_t s = slot(p.field, pattern.kind, p, origin);
  add(Element::Op::lexeme, program_.lexemes.size() - 1, p, origin).slot = s;
}

void TemplateCompiler::fields(const Pattern& pattern, const Part& p, const Starters& after,
                              const Origin& origin) {
  std::vector<Problem> found;
  ParameterReader reader(p.parameters, pattern.name, found);
  ByteClass ends = after.delimiters;
  for (const EndLiteral& literal : after.literals) {
    const char c = literal.text[0];
    ends = ends | ByteClass::of(std::string(1, c));
    if (literal.any_case && c >= 'a' && c <= 'z')
      ends = ends | ByteClass::of(std::string(1, static_cast<char>(c & ~0x20)));
  }
  for (const auto& [first, source] : after.elements) ends = ends | first;
  auto scan = pattern.fields->prepare(reader, {library_, ends});
  if (scan) reader.finish({});
  for (Problem& problem : found) {
    if (origin.nested)
      bad(problem.message, problem.hint, p, origin);
    else
      problems_.push_back(problem);
  }
  if (!scan || !found.empty()) return;
  FieldsUse use;
  use.scan = scan;
  use.description = pattern.description;
  use.as_map = !p.field.empty() && !p.is_prefix();
  // {name:...} keeps all of it as one value; otherwise its fields are kept, where anyone asked for them.
  const bool spread = p.is_prefix() || (p.field.empty() && !pattern.fields->shy);
  if (spread) use.prefix = origin.prefix + p.field;
  use.brings_found = spread;
  std::int16_t s = slot(p.field, pattern.kind, p, origin);
  for (const FieldColumn& column : scan->columns()) {
    if (!spread) {
      use.slots.push_back(-1);
      continue;
    }
    Origin inner = origin;
    inner.prefix = use.prefix;
    use.slots.push_back(slot(column.name, column.kind, p, inner));
    program_.clears = true;  // a column may be empty
  }
  program_.fields.push_back(std::move(use));
  add(Element::Op::fields, program_.fields.size() - 1, p, origin).slot = s;
}

void TemplateCompiler::text(const Pattern& pattern, const Part& p, const Starters& after,
                            const Origin& origin) {
  TextScan scan;
  scan.at_least = pattern.at_least;
  scan.description = pattern.description;
  std::vector<Problem> found;
  ParameterReader reader(p.parameters, pattern.name, found);
  if (auto range = reader.range()) {
    if (range->low.value_or(0) < 0 || range->high.value_or(1) < 1 || range->low.value_or(0) > 1e6)
      reader.bad(p.parameters[0], "a text's length is a range of whole numbers", "for instance 1..20");
    else
      scan.at_least = static_cast<std::size_t>(range->low.value_or(static_cast<double>(pattern.at_least)));
    if (range->high) scan.at_most = static_cast<std::size_t>(std::clamp(*range->high, 1.0, 1e6));
    scan.description += " of " + p.parameters[0].value + " bytes";
  }
  reader.finish({});
  for (Problem& problem : found) {
    if (origin.nested)
      bad(problem.message, problem.hint, p, origin);
    else
      problems_.push_back(problem);
  }
  for (const auto& [first, source] : after.elements)
    if (scan.at_most == SIZE_MAX && first.meets(pattern.bytes)) {
      bad("nothing says where `{" + p.field + ":" + p.text + "}` ends: " + source +
              " may start with what it may contain",
          "put a literal text between them, or use a pattern of fewer signs, such as {" + p.field + ":word}",
          p, origin);
      return;
    }
  scan.delimiters = after.delimiters;
  for (const EndLiteral& literal : after.literals)
    if (std::find(scan.ends.begin(), scan.ends.end(), literal) == scan.ends.end())
      scan.ends.push_back(literal);
  std::int16_t s = slot(p.field, Kind::text, p, origin);
  if (pattern.bytes.all() && scan.ends.empty() && scan.delimiters.empty() && after.elements.empty() &&
      scan.at_least == 0 && scan.at_most == SIZE_MAX) {
    add(Element::Op::rest, 0, p, origin).slot = s;
    return;
  }
  scan.prepare(pattern.bytes);
  program_.texts.push_back(std::move(scan));
  add(Element::Op::text, program_.texts.size() - 1, p, origin).slot = s;
}

void TemplateCompiler::capture(const Part& p, const Starters& after, const Origin& origin) {
  const Pattern* pattern = library_.find(p.text);
  if (pattern == nullptr) {
    Problem problem{"unknown pattern `" + p.text + "`", did_you_mean(p.text, library_.names()), p.text_offset,
                    p.text.size()};
    if (!p.field.empty() && library_.find(p.field) != nullptr)
      problem.hint = "the field comes first: {" + p.text + ":" + p.field + "}";
    else if (problem.hint.empty())
      problem.hint =
          "`dingle patterns` lists them; a regex stands between slashes: {" + p.field + ":/" + p.text + "/}";
    if (origin.nested)
      bad(problem.message, problem.hint, p, origin);
    else
      problems_.push_back(std::move(problem));
    return;
  }
  switch (pattern->form) {
    case PatternForm::lexeme: return lexeme(*pattern, p, origin);
    case PatternForm::fields: return fields(*pattern, p, after, origin);
    case PatternForm::text: return text(*pattern, p, after, origin);
    case PatternForm::regex:
      if (p.is_prefix())
        return bad("the pattern `" + pattern->name + "` brings no fields that a prefix could be for",
                   "take the dot away", p, origin);
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
  if (p.is_prefix()) inner.prefix = origin.prefix + p.field;
  const std::size_t element = program_.elements.size();
  std::int16_t s = slot(p.field, Kind::text, p, origin);
  add(Element::Op::span, 0, p, origin).slot = s;
  sequence(parts_of(*pattern), after, inner);
  program_.elements[element].next = static_cast<std::uint32_t>(program_.elements.size());
}

}  // namespace dingle
