// JSON of the size of a configuration or an answer: what the program writes of itself and what services
// answer. Events are read and written elsewhere (core/json_text.h, simdjson). Reading and writing are
// compiled once, here.
#pragma once

#include <nlohmann/json.hpp>
#include <string>
#include <string_view>

#include "core/value.h"

namespace dingle {

using Json = nlohmann::ordered_json;  // members stay in the order in which they were added

// Discarded (`is_discarded()`) if the text is not JSON (RFC 8259), or nests deeper than 128 levels.
Json parse_json(std::string_view text);
// On one line, or indented by so many blanks a level; bytes that are not UTF-8 are replaced.
std::string dump(const Json& json, int indent = -1);
Json json_of(const Value& value);  // null if it is absent

}  // namespace dingle
