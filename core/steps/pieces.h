// Texts in which `{name}` stands for something; doubled braces mean themselves.
#pragma once

#include <string>
#include <string_view>
#include <vector>

#include "core/result.h"

namespace dingle {

struct TextPiece {
  std::string literal;
  std::string name;  // behind the literal; "": the text ends
};

// The last piece has no name. A problem for a brace that is not closed, or opens nothing, and for what is no name.
Result<std::vector<TextPiece>> parse_pieces(std::string_view text);

}  // namespace dingle
