#include "core/template/wording.h"

#include <algorithm>
#include <cstring>

#include "core/json_text.h"
#include "core/template/template.h"

namespace dingle {

std::string_view beginning(std::string_view text, std::size_t most) {
  std::size_t n = std::min<std::size_t>(text.size(), most);
  while (n < text.size() && n > most - 4 && (static_cast<unsigned char>(text[n]) & 0xC0) == 0x80) --n;
  return text.substr(0, n);
}

namespace {

std::string shown(std::string_view text) {
  std::string out = valid_utf8(text);
  std::string quoted;
  // Blanks that look like others, or like nothing: U+00A0, U+2000 to U+200F, U+202F, U+3000, U+FEFF.
  const auto unseen = [&](std::size_t i) -> const char* {
    const std::string_view rest = std::string_view(out).substr(i);
    for (const auto& [bytes, name] :
         std::initializer_list<std::pair<std::string_view, const char*>>{{"\xC2\xA0", "\\u00a0"},
                                                                         {"\xE2\x80\xAF", "\\u202f"},
                                                                         {"\xE3\x80\x80", "\\u3000"},
                                                                         {"\xEF\xBB\xBF", "\\ufeff"}})
      if (rest.starts_with(bytes)) return name;
    static const char* const kOf2000[] = {"\\u2000", "\\u2001", "\\u2002", "\\u2003", "\\u2004", "\\u2005",
                                          "\\u2006", "\\u2007", "\\u2008", "\\u2009", "\\u200a", "\\u200b",
                                          "\\u200c", "\\u200d", "\\u200e", "\\u200f"};
    if (rest.size() >= 3 && rest.starts_with("\xE2\x80") && (rest[2] & 0xF0) == 0x80)
      return kOf2000[rest[2] & 15];
    return nullptr;
  };
  for (std::size_t i = 0; i < out.size(); ++i) {
    const char c = out[i];
    if (const char* name = unseen(i)) {
      quoted += name;
      i += (c & 0xF0) == 0xE0 ? 2 : 1;
    } else if (c == '\n')
      quoted += "\\n";
    else if (c == '\t')
      quoted += "\\t";
    else if (static_cast<unsigned char>(c) < 0x20)
      quoted +=
          "\\x" + std::string(1, "0123456789abcdef"[c >> 4]) + std::string(1, "0123456789abcdef"[c & 15]);
    else
      quoted += c;
  }
  return "\"" + quoted + "\"";
}

}  // namespace

namespace {

std::string reason_of(const std::vector<std::string>& expected, const std::string& detail,
                      bool too_expensive) {
  if (too_expensive) return "too expensive: the template goes over the line again and again";
  std::string text = "expected ";
  for (std::size_t i = 0; i < expected.size(); ++i)
    text += (i == 0 ? "" : i + 1 == expected.size() ? " or " : ", ") + expected[i];
  return detail.empty() ? text : text + " (" + detail + ")";
}

}  // namespace

std::string mismatch_sentence(std::string_view text, std::size_t column, std::string_view reason) {
  std::string sentence = "column " + std::to_string(column) + ": " + std::string(reason);
  if (!reason.starts_with("expected ") || column == 0) return sentence;
  const std::string_view found = beginning(text.substr(std::min(column - 1, text.size())));
  return sentence + (found.empty() ? ", found the end of the line" : ", found " + shown(found));
}

std::string Mismatch::reason() const { return reason_of(expected, detail, too_expensive); }

std::string Mismatch::sentence() const {
  std::string text = "column " + std::to_string(offset + 1) + ": " + reason();
  if (too_expensive) return text;
  return text + (found.empty() ? ", found the end of the line" : ", found " + shown(found));
}

std::string Advice::sentence() const {
  if (blanks)
    return "several blanks or a tab stand here: { } takes a run of them, and then the rest of the line "
           "matches";
  std::string text;
  int named = 0;
  for (const Other& other : others) {
    if (!text.empty() && (!other.rest_matches || named == 2)) break;
    ++named;
    text += (text.empty() ? "" : " or ") + ("{:" + other.pattern + "}");
  }
  if (!others.empty()) {
    text += " would match here";
    if (others[0].rest_matches) text += ", and then the rest of the line";
  }
  if (skipping_helps && (others.empty() || !others[0].rest_matches))
    text += (text.empty() ? "" : "; ") +
            (skipped.empty() ? "without " + element + " the rest of the line matches"
                             : "with " + shown(skipped) + " skipped the rest of the line matches");
  return text;
}

std::vector<std::string> Template::expected_words(const MatchFailure& failure) const {
  using Op = Element::Op;
  const auto words = [&](const MatchFailure::Expected& what) -> std::string {
    if (what.element == MatchFailure::kEnd) return "the end of the line";
    if (!what.said.empty()) return what.said;
    const Element& e = program_.elements[what.element];
    switch (e.op) {
      case Op::literal: return shown(std::string_view(program_.literals[e.operand]).substr(what.skip));
      case Op::any_case: return shown(program_.literals[e.operand]) + " in any case";
      case Op::lexeme: return program_.lexemes[e.operand].description;
      case Op::text: return program_.texts[e.operand].description;
      case Op::regex: return program_.regexes[e.operand].description;
      case Op::fields: return program_.fields[e.operand].description;
      default: return "a blank";
    }
  };
  std::vector<std::string> all;
  for (const MatchFailure::Expected& what : failure.expected)
    if (std::string text = words(what); std::find(all.begin(), all.end(), text) == all.end())
      all.push_back(std::move(text));
  return all;
}

std::string Template::reason(const MatchFailure& failure) {
  return reason_of(failure.of->expected_words(failure), failure.detail, failure.too_expensive);
}

std::vector<Described> Template::describe() const {
  std::vector<Described> all;
  std::vector<std::uint32_t> ends;  // of the groups that are open
  for (std::uint32_t i = 0; i < program_.elements.size(); ++i) {
    while (!ends.empty() && ends.back() <= i) ends.pop_back();
    const Element& e = program_.elements[i];
    Described d;
    d.depth = ends.size();
    d.source = text_.substr(e.offset, e.length);
    if (e.op == Element::Op::literal) d.source = shown(program_.literals[e.operand]);
    auto ending = [&](const TextScan& scan) {
      std::string text;
      for (const EndLiteral& end : scan.ends)
        text += (text.empty() ? "" : ", ") + shown(end.text) + (end.any_case ? " in any case" : "");
      if (!scan.delimiters.empty()) text += text.empty() ? "a blank" : ", a blank";
      return text.empty() ? "ends where another byte stands" : "ends before " + text;
    };
    switch (e.op) {
      case Element::Op::literal:
        d.how = "literal text";
        d.why = std::to_string(program_.literals[e.operand].size()) +
                (program_.literals[e.operand].size() == 1 ? " byte" : " bytes, compared at once");
        break;
      case Element::Op::any_case:
        d.how = "literal text";
        d.why = "letters in either case";
        break;
      case Element::Op::lexeme: {
        const LexemeUse& use = program_.lexemes[e.operand];
        d.how = use.fast == LexemeUse::Fast::none ? "typed scanner" : "typed scanner, inlined";
        d.why = use.description;
        break;
      }
      case Element::Op::text: {
        const TextScan& scan = program_.texts[e.operand];
        d.how = scan.only_stop >= 0 ? "search for one byte" : "search for a class of bytes";
        d.why = scan.description + "; " + ending(scan);
        break;
      }
      case Element::Op::rest:
        d.how = "no search";
        d.why = "the rest of the line";
        break;
      case Element::Op::regex:
        d.how = "regex engine";
        d.why = "a regex: /" + program_.regexes[e.operand].regex.source() +
                "/; one call of the engine for each line, some 70 ns and more";
        break;
      case Element::Op::blanks:
        d.how = "typed scanner";
        d.why = "one or more blanks or tabs";
        break;
      case Element::Op::fields:
        d.how = "scanner with fields";
        d.why = program_.fields[e.operand].description;
        break;
      case Element::Op::optional:
        d.how = "optional part";
        d.why = "taken if it matches here, else skipped; never tried again";
        break;
      case Element::Op::choice:
        d.how = "alternatives";
        d.why =
            std::to_string(program_.branches[e.operand].size()) + ", the first that matches here is final";
        break;
      case Element::Op::span:
        d.how = "named template";
        d.why = "its elements follow";
        break;
    }
    all.push_back(std::move(d));
    if (e.op == Element::Op::optional || e.op == Element::Op::choice || e.op == Element::Op::span)
      ends.push_back(e.next);
  }
  return all;
}

}  // namespace dingle
