#include "core/template/syntax.h"

#include <algorithm>

#include "core/template/library.h"

namespace dingle {
namespace {

class Parser {
 public:
  Parser(std::string_view text, std::vector<Problem>& problems) : text_(text), problems_(problems) {}

  std::vector<Part> all() {
    std::vector<Part> parts = sequence(0);
    while (at_ < text_.size()) {  // a closing token that nothing opened
      bad("`" + std::string(text_.substr(at_, 3)) + "` closes nothing", "remove it, or open it before", at_,
          3);
      at_ += 3;
      for (Part& p : sequence(0)) parts.push_back(std::move(p));
    }
    return parts;
  }

 private:
  void bad(std::string message, std::string hint, std::size_t offset, std::size_t length) {
    problems_.push_back({std::move(message), std::move(hint), offset, length});
  }
  bool here(std::string_view token) const { return text_.substr(at_, token.size()) == token; }

  // Parts up to the end or a closing token, which is left in place.
  std::vector<Part> sequence(std::size_t depth) {
    std::vector<Part> parts;
    while (at_ < text_.size() && !here("{]}") && !here("{|}") && !here("{)}")) {
      if (here("{{") || here("}}")) {
        literal(parts, at_, 2, text_.substr(at_, 1));
        at_ += 2;
      } else if (text_[at_] == '}') {
        bad("a single `}` has nothing to close", "write }} for a literal brace", at_, 1);
        ++at_;
      } else if (text_[at_] != '{') {
        literal(parts, at_, 1, text_.substr(at_, 1));
        ++at_;
      } else if (here("{ }")) {
        parts.push_back({Part::Form::blanks, "", "", at_, 3, at_, {}, {}});
        at_ += 3;
      } else if (here("{[}") || here("{(}")) {
        group(parts, depth);
      } else if (here("{'")) {
        any_case(parts);
      } else {
        capture(parts);
      }
    }
    return parts;
  }

  static void literal(std::vector<Part>& parts, std::size_t offset, std::size_t length,
                      std::string_view byte) {
    if (parts.empty() || parts.back().form != Part::Form::literal)
      parts.push_back({Part::Form::literal, "", "", offset, 0, offset, {}, {}});
    parts.back().text += byte;
    parts.back().length = offset + length - parts.back().offset;
  }

  void group(std::vector<Part>& parts, std::size_t depth) {
    const std::size_t start = at_;
    const bool optional = here("{[}");
    const std::string_view close = optional ? "{]}" : "{)}";
    Part part{optional ? Part::Form::optional : Part::Form::choice, "", "", start, 3, start, {}, {}};
    at_ += 3;
    if (depth >= kDeepestTemplate) {
      bad("parts are nested deeper than 16", "", start, 3);
      at_ = text_.size();
      return;
    }
    part.branches.push_back(sequence(depth + 1));
    while (!optional && here("{|}")) {
      at_ += 3;
      part.branches.push_back(sequence(depth + 1));
    }
    if (here(close))
      at_ += 3;
    else
      bad(std::string(optional ? "the optional part" : "the alternatives") + " opened here are not closed",
          "close with " + std::string(close), start, 3);
    part.length = at_ - start;
    parts.push_back(std::move(part));
  }

  void capture(std::vector<Part>& parts) {
    const std::size_t start = at_;
    Part part{Part::Form::capture, "", "", start, 0, start, {}, {}};
    std::size_t i = start + 1;
    while (i < text_.size() && text_[i] != ':' && text_[i] != '}' && text_[i] != '{') ++i;
    part.field = std::string(text_.substr(start + 1, i - start - 1));
    if (i < text_.size() && text_[i] == ':') {
      ++i;
      part.text_offset = i;
      if (i < text_.size() && text_[i] == '/') {
        std::size_t close = text_.find("/}", i + 1);
        if (close == std::string_view::npos)
          return unclosed(start, "the regex that starts here is not closed", "end it with /}");
        part.form = Part::Form::regex;
        part.text_offset = i + 1;
        part.text = std::string(text_.substr(i + 1, close - i - 1));
        i = close + 1;
      } else {
        while (i < text_.size() && text_[i] != '}' && text_[i] != '{' && text_[i] != '(') ++i;
        part.text = std::string(text_.substr(part.text_offset, i - part.text_offset));
        if (i < text_.size() && text_[i] == '(' && !parameters(part, i))
          return unclosed(start, "the parenthesis of the pattern's parameters is not closed",
                          "close it with )}");
      }
    } else {
      part.text = "text";
    }
    if (i >= text_.size() || text_[i] != '}')
      return unclosed(start, "the brace opened here is not closed",
                      "close it with }, or write {{ for a literal brace");
    at_ = i + 1;
    part.length = at_ - start;
    const std::string_view field = part.field;
    if (part.is_prefix() ? part.form == Part::Form::regex || !is_field_name(field.substr(0, field.size() - 1))
                         : !field.empty() && !is_field_name(field))
      bad("`" + part.field + "` is not a field name",
          "use letters, digits, `_`, `-` and `.`, with a letter or `_` first; write {{ for a literal brace",
          start + 1, part.field.size());
    if (part.form == Part::Form::capture && part.text.empty())
      bad("a pattern's name is missing after the colon", "for instance {name:word}", start, part.length);
    if (part.field.empty() && part.text_offset == start)
      bad("empty braces", "name a field or a pattern, or write {{}} for literal braces", start, part.length);
    parts.push_back(std::move(part));
  }

  // {'text'}; `''` is one quote.
  void any_case(std::vector<Part>& parts) {
    const std::size_t start = at_;
    Part part{Part::Form::any_case, "", "", start, 0, start + 2, {}, {}};
    std::size_t i = start + 2;
    for (;; ++i) {
      if (i >= text_.size())
        return unclosed(start, "the quote opened here is not closed", "a text in any case ends with '}");
      if (text_[i] == '\'') {
        if (text_.substr(i, 2) != "''") break;
        ++i;
      }
      const char c = text_[i];
      part.text += c >= 'A' && c <= 'Z' ? static_cast<char>(c | 0x20) : c;
    }
    if (text_.substr(i, 2) != "'}") return unclosed(start, "the quote opened here is not closed by '}", "");
    at_ = i + 2;
    part.length = at_ - start;
    if (part.text.empty()) bad("an empty text between the quotes", "remove it", start, part.length);
    parts.push_back(std::move(part));
  }

  // From the opening parenthesis at `i`; leaves `i` behind the closing one. False if there is none.
  bool parameters(Part& part, std::size_t& i) {
    ++i;
    auto blanks = [&] {
      while (i < text_.size() && text_[i] == ' ') ++i;
    };
    blanks();
    if (i < text_.size() && text_[i] == ')') return ++i, true;
    for (;;) {
      Parameter p;
      blanks();
      p.offset = i;
      bool named = false;
      for (;;) {
        if (i < text_.size() && (text_[i] == '"' || text_[i] == '\'')) {
          const char quote = text_[i++];
          p.quoted = true;
          for (;; ++i) {
            if (i >= text_.size()) return false;
            if (text_[i] == quote && (i + 1 >= text_.size() || text_[i + 1] != quote)) break;
            if (text_[i] == quote) ++i;
            p.value += text_[i];
          }
          ++i;
        } else {
          const std::size_t from = i;
          while (i < text_.size() && std::string_view(",()=\"'").find(text_[i]) == std::string_view::npos)
            ++i;
          p.value = std::string(text_.substr(from, i - from));
          while (!p.value.empty() && p.value.back() == ' ') p.value.pop_back();
        }
        if (named || p.quoted || i >= text_.size() || text_[i] != '=') break;
        p.name = std::move(p.value);
        p.value.clear();
        named = true;
        ++i;
        blanks();
      }
      p.length = std::max<std::size_t>(1, i - p.offset);
      part.parameters.push_back(std::move(p));
      blanks();
      if (i >= text_.size() || (text_[i] != ',' && text_[i] != ')')) return false;
      if (text_[i++] == ')') return true;
    }
  }

  void unclosed(std::size_t start, const char* message, const char* hint) {
    bad(message, hint, start, 1);
    at_ = start + 1;  // go on behind the brace, so that further mistakes are found as well
    while (at_ < text_.size() && text_[at_] != '{') ++at_;
  }

  std::string_view text_;
  std::vector<Problem>& problems_;
  std::size_t at_ = 0;
};

}  // namespace

std::vector<Part> parse_template(std::string_view text, std::vector<Problem>& problems) {
  if (text.size() > kLongestTemplate) {
    problems.push_back(
        {"the template is longer than 20000 bytes", "split it with named patterns", kLongestTemplate, 1});
    return {};
  }
  return Parser(text, problems).all();
}

std::string escaped_literal(std::string_view text) {
  std::string out;
  for (char c : text) {
    if (c == '{' || c == '}') out += c;
    out += c;
  }
  return out;
}

}  // namespace dingle
