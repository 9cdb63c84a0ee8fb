// What the JSON Schemas of options have in common, of the configuration and of the API's calls.
#pragma once

#include <string>

#include "agent/json.h"
#include "core/options/options.h"

namespace dingle {

// The member `default`, if the option has a fallback.
inline void add_default(Json& schema, const OptionSpec& option) {
  if (!*option.fallback) return;
  if (option.type == OptionType::boolean)
    schema["default"] = std::string(option.fallback) == "true";
  else if (option.type == OptionType::integer)
    schema["default"] = std::stoll(option.fallback);
  else
    schema["default"] = option.fallback;
}

}  // namespace dingle
