#include "core/condition/tokens.h"

#include <algorithm>

#include "core/condition/words.h"

namespace dingle {

std::string lower_ascii_text(std::string_view text) {
  std::string out(text);
  std::transform(out.begin(), out.end(), out.begin(), lower_ascii);
  return out;
}

Result<SqlToken> next_token(std::string_view text, std::size_t& at) {
  while (at < text.size() && std::string_view(" \t\r\n").find(text[at]) != std::string_view::npos) ++at;
  SqlToken token;
  token.offset = at;
  if (at == text.size()) return token;
  const char c = text[at];
  const auto letter = [](char b) { return (lower_ascii(b) >= 'a' && lower_ascii(b) <= 'z') || b == '_'; };
  const auto digit = [](char b) { return b >= '0' && b <= '9'; };
  std::size_t i = at;
  if (c == '\'' || c == '"') {
    for (++i;; ++i) {
      if (i >= text.size())
        return Problem{c == '\'' ? "this text has no closing quote" : "this name has no closing quote",
                       "end it with " + std::string(1, c), at, 1};
      if (text[i] != c)
        token.text += text[i];
      else if (i + 1 < text.size() && text[i + 1] == c)
        token.text += text[i++];
      else
        break;
    }
    ++i;
    token.form = c == '\'' ? SqlToken::Form::text : SqlToken::Form::quoted_name;
  } else if (letter(c)) {
    while (i < text.size() &&
           (letter(text[i]) || digit(text[i]) ||
            (text[i] == '.' && i + 1 < text.size() && (letter(text[i + 1]) || digit(text[i + 1])))))
      ++i;
    token.form = SqlToken::Form::name;
    token.text = std::string(text.substr(at, i - at));
  } else if (digit(c) || (c == '.' && i + 1 < text.size() && digit(text[i + 1]))) {
    for (++i; i < text.size() && (digit(text[i]) || text[i] == '.' || lower_ascii(text[i]) == 'e' ||
                                  ((text[i] == '-' || text[i] == '+') && lower_ascii(text[i - 1]) == 'e'));)
      ++i;
    token.form = SqlToken::Form::number;
    token.text = std::string(text.substr(at, i - at));
  } else {
    for (std::string_view sign : {"<>", "!=", "<=", ">=", "==", "&&", "||", "=", "<", ">", "(", ")", ",", "!",
                                  "+", "-", "*", "/", "%"})
      if (text.substr(i, sign.size()) == sign) {
        token.form = SqlToken::Form::sign;
        token.text = std::string(sign);
        i += sign.size();
        break;
      }
    if (token.form != SqlToken::Form::sign)
      return Problem{"unexpected `" + std::string(1, c) + "`",
                     c == ':' ? "conditions are SQL: field = 'value'" : "", at, 1};
  }
  token.length = i - at;
  at = i;
  return token;
}

}  // namespace dingle
