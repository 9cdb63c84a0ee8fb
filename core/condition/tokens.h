// The words of conditions and value expressions.
#pragma once

#include <cstddef>
#include <string>
#include <string_view>

#include "core/result.h"

namespace dingle {

struct SqlToken {
  enum class Form { name, quoted_name, text, number, sign, end };
  Form form = Form::end;
  std::string text;  // a name as written; a string without quotes; a number; a sign
  std::size_t offset = 0, length = 0;
};

// The token at or behind `at`, which is moved behind it.
Result<SqlToken> next_token(std::string_view text, std::size_t& at);

std::string lower_ascii_text(std::string_view text);

}  // namespace dingle
