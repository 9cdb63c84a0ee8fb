// Random templates with the regular expression that says what they mean, and lines that they nearly match.
// Used by the tests and by the fuzzer `differential`.
//
// The reference of docs/templates.md: the whole template as one regular expression in which every part is
// atomic or possessive; typed patterns have a regex of their own; a text's bytes are each guarded by what may
// follow.
#pragma once

#include <string>
#include <vector>

namespace dingle {

class TemplateGrammar {
 public:
  struct Node {
    enum class Form { literal, any_case, blanks, capture, optional, choice } form = Form::literal;
    std::string
        text;  // literal, any_case: its bytes; capture: the pattern as it is written, "" for a plain {x}
    std::string name;  // capture
    std::vector<std::vector<Node>> branches;
  };
  using Nodes = std::vector<Node>;

  virtual ~TemplateGrammar() = default;
  virtual unsigned below(unsigned n) = 0;  // the source of chance

  Nodes nodes() {
    names_ = 0;
    return sequence(0);
  }

  static std::string template_of(const Nodes& nodes) {
    std::string out;
    for (const Node& n : nodes) switch (n.form) {
        case Node::Form::literal: out += n.text; break;
        case Node::Form::any_case: out += "{'" + n.text + "'}"; break;
        case Node::Form::blanks: out += "{ }"; break;
        case Node::Form::capture: out += "{" + n.name + (n.text.empty() ? "" : ":" + n.text) + "}"; break;
        case Node::Form::optional: out += "{[}" + template_of(n.branches[0]) + "{]}"; break;
        case Node::Form::choice:
          for (std::size_t i = 0; i < n.branches.size(); ++i)
            out += (i == 0 ? "{(}" : "{|}") + template_of(n.branches[i]);
          out += "{)}";
      }
    return out;
  }

  static std::string regex_of(const Nodes& nodes) { return "^" + regex(nodes, {}) + "\\z"; }

  // A line that the nodes were made for, more or less.
  std::string line_of(const Nodes& nodes) {
    std::string out = example(nodes);
    for (unsigned n = below(3); n > 0 && !out.empty(); --n) {
      const unsigned at = below(static_cast<unsigned>(out.size()));
      if (below(2))
        out[at] = letter();
      else if (below(2))
        out.erase(at, 1 + below(3));
      else
        out.insert(at, 1, letter());
    }
    return out;
  }

 private:
  struct PatternRegex {
    const char* pattern;
    const char* whole;  // the regex of a typed pattern; nullptr: a text
    const char* bytes;  // of a text
    unsigned least;
  };
  static const std::vector<PatternRegex>& patterns() {
#define DINGLE_OCTET "(?>25[0-5]|2[0-4]\\d|1\\d\\d|[1-9]\\d|\\d)"
    static const std::vector<PatternRegex> all{
        {"", nullptr, "[\\x00-\\xff]", 0},
        {"word", nullptr, "[A-Za-z0-9_\\-\\x80-\\xff]", 1},
        {"unspaced", nullptr, "[^ \\t\\r\\n\\v\\f]", 1},
        {"letters", nullptr, "[A-Za-z]", 1},
        {"alphanumeric", nullptr, "[A-Za-z0-9]", 1},
        {"word(2..4)", nullptr, "[A-Za-z0-9_\\-\\x80-\\xff]", 2},
        {"int", "(?>[+-]?\\d+)", nullptr, 0},
        {"hex", "(?>0[xX][0-9a-fA-F]+|[0-9a-fA-F]+)", nullptr, 0},
        {"decimal", "(?>[+-]?(?>\\d+(?:\\.\\d+)?|\\.\\d+)(?:[eE][+-]?\\d+)?)", nullptr, 0},
        {"ipv4", "(?>" DINGLE_OCTET "(?:\\." DINGLE_OCTET "){3})", nullptr, 0},
        {"boolean", "(?>(?i:true|false|yes|no|on|off)(?![A-Za-z]))", nullptr, 0},
        {"quoted", "(?>\"(?:[^\"\\\\]|\\\\[\\x00-\\xff])*\"|'(?:[^'\\\\]|\\\\[\\x00-\\xff])*')", nullptr, 0},
        {"/[a-c]+1?/", "(?>[a-c]+1?)", nullptr, 0},
    };
#undef DINGLE_OCTET
    return all;
  }

  char letter() { return "aAb1 ,;=.-\"'x0\t\xC3"[below(16)]; }
  std::string letters(unsigned most) {
    std::string out;
    for (unsigned n = 1 + below(most); n > 0; --n) out += "aAb1 ,;=.-"[below(10)];
    return out;
  }
  Nodes sequence(unsigned depth) {
    Nodes all;
    for (unsigned n = 1 + below(depth == 0 ? 5 : 2); n > 0; --n) {
      if (below(3)) {
        if (all.empty() || all.back().form != Node::Form::literal)
          all.push_back({Node::Form::literal, letters(3), "", {}});
      } else if (below(4) == 0) {
        all.push_back(
            {below(2) ? Node::Form::any_case : Node::Form::blanks, std::string(1, "abx"[below(3)]), "", {}});
      }
      if (depth < 2 && below(5) == 0) {
        Node group{below(2) ? Node::Form::optional : Node::Form::choice, "", "", {}};
        for (unsigned k = group.form == Node::Form::optional ? 1 : 1 + below(3); k > 0; --k)
          group.branches.push_back(sequence(depth + 1));
        all.push_back(std::move(group));
      } else {
        const auto& pattern = patterns()[below(static_cast<unsigned>(patterns().size()))];
        all.push_back({Node::Form::capture, pattern.pattern, "f" + std::to_string(names_++), {}});
      }
      if (below(3)) all.push_back({Node::Form::literal, letters(10), "", {}});
    }
    return all;
  }

  std::string example(const Nodes& nodes) {
    std::string out;
    for (const Node& n : nodes) switch (n.form) {
        case Node::Form::literal: out += n.text; break;
        case Node::Form::any_case: out += static_cast<char>(below(2) ? n.text[0] : n.text[0] - 0x20); break;
        case Node::Form::blanks: out += below(2) ? " " : " \t "; break;
        case Node::Form::optional: out += below(2) ? example(n.branches[0]) : ""; break;
        case Node::Form::choice:
          out += example(n.branches[below(static_cast<unsigned>(n.branches.size()))]);
          break;
        case Node::Form::capture: {
          static const char* const kTyped[] = {"-17",        "0",         "12345678", "3.25",      "1e5",
                                               ".5",         "192.0.2.7", "cafe1",    "true",      "Off",
                                               "\"a\\\"b\"", "'x'",       "abc1",     "256.1.1.1", "0x1F"};
          if (n.text.empty() || n.text[0] == 'w' || n.text[0] == 'u' || n.text[0] == 'l')
            out += letters(below(4) ? 4 : 70);
          else
            out += kTyped[below(15)];
        }
      }
    return out;
  }

  static std::string escaped(const std::string& literal) {
    std::string out;
    for (char c : literal)
      out += std::string("\\x{") + "0123456789abcdef"[static_cast<unsigned char>(c) >> 4] +
             "0123456789abcdef"[c & 15] + "}";
    return out;
  }

  // Adds what a sequence may start with, as far as it ends a text before it; true if it may match nothing.
  static bool starts(const Nodes& nodes, std::size_t from, std::vector<std::string>& to) {
    for (std::size_t i = from; i < nodes.size(); ++i) {
      const Node& n = nodes[i];
      switch (n.form) {
        case Node::Form::literal: {
          std::string text = n.text;  // adjacent literals are one
          for (std::size_t k = i + 1; k < nodes.size() && nodes[k].form == Node::Form::literal; ++k)
            text += nodes[k].text;
          to.push_back(escaped(text));
          return false;
        }
        case Node::Form::any_case: to.push_back("(?i:" + escaped(n.text) + ")"); return false;
        case Node::Form::blanks: to.push_back("[ \\t]"); return false;
        case Node::Form::capture: {
          if (n.text.empty()) continue;  // may match nothing
          return false;
        }
        case Node::Form::optional: starts(n.branches[0], 0, to); continue;
        case Node::Form::choice: {
          bool nothing = false;
          for (const Nodes& branch : n.branches) nothing |= starts(branch, 0, to);
          if (!nothing) return false;
        }
      }
    }
    return true;
  }

  static std::string regex(const Nodes& nodes, const std::vector<std::string>& after) {
    std::string out;
    for (std::size_t i = 0; i < nodes.size(); ++i) {
      const Node& n = nodes[i];
      std::vector<std::string> follow;
      if (starts(nodes, i + 1, follow)) follow.insert(follow.end(), after.begin(), after.end());
      switch (n.form) {
        case Node::Form::literal: out += escaped(n.text); break;
        case Node::Form::any_case: out += "(?i:" + escaped(n.text) + ")"; break;
        case Node::Form::blanks: out += "[ \\t]++"; break;
        case Node::Form::optional: out += "(?>" + regex(n.branches[0], follow) + "|)"; break;
        case Node::Form::choice:
          for (std::size_t k = 0; k < n.branches.size(); ++k)
            out += (k == 0 ? "(?>" : "|") + regex(n.branches[k], follow);
          out += ")";
          break;
        case Node::Form::capture: {
          const PatternRegex* p = nullptr;
          for (const PatternRegex& candidate : patterns())
            if (n.text == candidate.pattern) p = &candidate;
          out += "(?<" + n.name + ">";
          if (p->whole != nullptr) {
            out += p->whole;
          } else {
            std::string guard;
            for (const std::string& f : follow) guard += (guard.empty() ? "(?!" : "|") + f;
            if (!guard.empty()) guard += ")";
            for (unsigned k = 0; k < p->least; ++k) out += p->bytes;
            const bool short_word = n.text == "word(2..4)";
            out += "(?:" + guard + p->bytes + (short_word ? "){0,2}+" : ")*+");
          }
          out += ")";
        }
      }
    }
    return out;
  }

  unsigned names_ = 0;
};

}  // namespace dingle
