#include "core/steps/pieces.h"

#include "core/template/library.h"

namespace dingle {

Result<std::vector<TextPiece>> parse_pieces(std::string_view text) {
  std::vector<TextPiece> pieces(1);
  for (std::size_t i = 0; i < text.size();) {
    if (text.substr(i, 2) == "{{" || text.substr(i, 2) == "}}") {
      pieces.back().literal += text[i];
      i += 2;
    } else if (text[i] == '{') {
      const std::size_t close = text.find('}', i);
      std::string name(
          text.substr(i + 1, close == std::string_view::npos ? std::string_view::npos : close - i - 1));
      if (close == std::string_view::npos)
        return Problem{"the brace opened here is not closed", "write {{ for a literal brace", i, 1};
      if (!is_field_name(name))
        return Problem{"`" + name + "` is not a field's name", "write {{ for a literal brace", i, 1};
      pieces.back().name = std::move(name);
      pieces.emplace_back();
      i = close + 1;
    } else if (text[i] == '}') {
      return Problem{"a single `}` has nothing to close", "write }} for a literal brace", i, 1};
    } else {
      pieces.back().literal += text[i++];
    }
  }
  return pieces;
}

}  // namespace dingle
