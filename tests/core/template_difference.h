// One random template on some lines, held against the reference.
#pragma once

#ifndef PCRE2_CODE_UNIT_WIDTH
#define PCRE2_CODE_UNIT_WIDTH 8
#endif
#include <pcre2.h>

#include "tests/core/template_check.h"
#include "tests/core/template_grammar.h"

namespace dingle {

struct Differences {
  int compiled = 0, matched = 0;

  // "" or what differs.
  std::string try_one(TemplateGrammar& grammar, int lines) {
    static const PatternLibrary library;
    const TemplateGrammar::Nodes nodes = grammar.nodes();
    const std::string text = TemplateGrammar::template_of(nodes), regex = TemplateGrammar::regex_of(nodes);
    std::vector<Problem> problems;
    auto t = Template::compile(text, library, {}, problems);
    if (!t) return "";  // nothing says where a text ends: the grammar makes such templates, too
    ++compiled;
    int error = 0;
    std::size_t offset = 0;
    pcre2_code* code = pcre2_compile(reinterpret_cast<PCRE2_SPTR>(regex.data()), regex.size(), PCRE2_DOTALL,
                                     &error, &offset, nullptr);
    if (code == nullptr) return "the reference does not compile: " + regex;
    pcre2_match_data* data = pcre2_match_data_create_from_pattern(code, nullptr);
    std::string difference;
    for (int i = 0; i < lines && difference.empty(); ++i) {
      const std::string line = grammar.line_of(nodes);
      Arena arena;
      const MatchCheck ours = match_everywhere(t, line, arena);
      const int groups =
          pcre2_match(code, reinterpret_cast<PCRE2_SPTR>(line.data()), line.size(), 0, 0, data, nullptr);
      const std::string about = text + "\n on " + line + "\n as " + regex + "\n";
      if (!ours.disagreement.empty())
        difference = about + ours.disagreement;
      else if (ours.matched != (groups > 0))
        difference = about + (ours.matched ? "matches, but should not" : "does not match, but should");
      if (!ours.matched || !difference.empty()) continue;
      ++matched;
      const auto places = t->places(line, {&arena, 0});
      const std::size_t* v = pcre2_get_ovector_pointer(data);
      for (std::size_t s = 0; s < t->slots().size() && difference.empty(); ++s) {
        const int group =
            pcre2_substring_number_from_name(code, reinterpret_cast<PCRE2_SPTR>(t->slots()[s].name.c_str()));
        const bool there = group < groups && v[2 * group] != PCRE2_UNSET;
        if (!ours.values[s].absent() != there)
          difference = about + t->slots()[s].name + (there ? " is missing" : " is there");
        else if (there && line.substr(places[s].first, places[s].second) !=
                              line.substr(v[2 * group], v[2 * group + 1] - v[2 * group]))
          difference = about + t->slots()[s].name + " is " + line.substr(places[s].first, places[s].second);
      }
    }
    pcre2_match_data_free(data);
    pcre2_code_free(code);
    return difference;
  }
};

}  // namespace dingle
