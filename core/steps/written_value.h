// A value as it is written in a configuration: numbers, true and false without quotes keep their type.
#pragma once

#include <charconv>
#include <cmath>

#include "core/options/node.h"
#include "core/value.h"

namespace dingle {

// A text is a view into `node`.
inline Value written_value(const Node& node) {
  const std::string& text = node.scalar;
  const char* const end = text.data() + text.size();
  if (!node.quoted && !text.empty()) {
    std::int64_t integer = 0;
    double decimal = 0;
    if (auto r = std::from_chars(text.data(), end, integer); r.ec == std::errc() && r.ptr == end)
      return Value::integer(integer);
    if (auto d = std::from_chars(text.data(), end, decimal);
        d.ec == std::errc() && d.ptr == end && std::isfinite(decimal))
      return Value::decimal(decimal);
    if (text == "true" || text == "false") return Value::boolean(text == "true");
  }
  return Value::text(text);
}

}  // namespace dingle
