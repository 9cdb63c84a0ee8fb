// The syntax of templates: text into a tree of parts. What the parts mean is template.h's business.
//
//   template    = { literal | "{{" | "}}" | part } ;
//   part        = capture | regex | blanks | optional | choice ;
//   capture     = "{" [ field ] [ ":" pattern ] "}" ;         (* not both missing *)
//   regex       = "{" [ field ] ":/" PCRE2 "/}" ;
//   blanks      = "{_}" ;                                     (* one or more blanks or tabs *)
//   optional    = "{[}" template "{]}" ;
//   choice      = "{(}" template { "{|}" template } "{)}" ;
//
// Everything outside braces is literal, so no sign of ordinary log text needs an escape; braces are doubled.
#pragma once

#include <string>
#include <string_view>
#include <vector>

#include "core/result.h"

namespace dingle {

struct Part {
  enum class Form { literal, capture, regex, blanks, optional, choice };
  Form form = Form::literal;
  std::string text;                    // literal: its bytes; capture: the pattern's name; regex: its source
  std::string field;                   // capture, regex: "" keeps nothing
  std::size_t offset = 0, length = 0;  // of the part in the template's text
  std::size_t text_offset = 0;         // of `text` in it
  std::vector<std::vector<Part>> branches;  // optional: one; choice: all
};

inline constexpr std::size_t kLongestTemplate = 20'000;  // bytes
inline constexpr std::size_t kDeepestTemplate = 16;      // parts within parts

// Parses all of the text; every problem found goes to `problems`. Cost: linear in the text.
std::vector<Part> parse_template(std::string_view text, std::vector<Problem>& problems);

}  // namespace dingle
