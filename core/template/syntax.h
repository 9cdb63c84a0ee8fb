// The syntax of templates: text into a tree of parts. What the parts mean is template.h's business.
//
//   template    = { literal | "{{" | "}}" | part } ;
//   part        = capture | regex | any_case | blanks | optional | choice ;
//   capture     = "{" [ field [ "." ] ] [ ":" pattern [ "(" [ parameters ] ")" ] ] "}" ;  (* not all missing
//   *) parameters  = parameter { "," parameter } ; parameter   = [ name "=" ] [ value ] ; value       = { any
//   byte but , ( ) = " ' } | '"' { byte | '""' } '"' | "'" { byte | "''" } "'" ; regex       = "{" [ field ]
//   ":/" PCRE2 "/}" ; any_case    = "{'" { byte } "'}" ;                        (* literal text, letters in
//   either case *) blanks      = "{ }" ;                                     (* one or more blanks or tabs *)
//   optional    = "{[}" template "{]}" ;
//   choice      = "{(}" template { "{|}" template } "{)}" ;
//
// Everything outside braces is literal, so no sign of ordinary log text needs an escape; braces are doubled.
// A field's name that ends with a dot is a prefix: the fields that the pattern brings get it before their
// names.
#pragma once

#include <string>
#include <string_view>
#include <vector>

#include "core/result.h"
#include "core/template/parameters.h"

namespace dingle {

struct Part {
  enum class Form { literal, any_case, capture, regex, blanks, optional, choice };
  Form form = Form::literal;
  std::string
      text;  // literal: its bytes; any_case: in lower case; capture: the pattern's name; regex: its source
  std::string field;                   // capture, regex: "" keeps nothing; with a dot at its end: a prefix
  std::size_t offset = 0, length = 0;  // of the part in the template's text
  std::size_t text_offset = 0;         // of `text` in it
  std::vector<std::vector<Part>> branches;  // optional: one; choice: all
  std::vector<Parameter> parameters;        // capture
  bool is_prefix() const { return !field.empty() && field.back() == '.'; }
};

inline constexpr std::size_t kLongestTemplate = 20'000;  // bytes
inline constexpr std::size_t kDeepestTemplate = 16;      // parts within parts

// Parses all of the text; every problem found goes to `problems`. Cost: linear in the text.
std::vector<Part> parse_template(std::string_view text, std::vector<Problem>& problems);

// The literal that is this text: its braces are doubled.
std::string escaped_literal(std::string_view text);

}  // namespace dingle
