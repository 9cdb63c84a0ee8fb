// JSON of the size of a configuration or an answer: what the program writes of itself and what services
// answer. Events are read and written elsewhere (core/json_text.h, simdjson). Reading and writing are
// compiled once, here.
#pragma once

#include <cstdint>
#include <nlohmann/json.hpp>
#include <optional>
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

// Members of what somebody else wrote. What is no object, lacks the member, or has it of another kind, has none: no call throws,
// whatever was answered.
const Json* member(const Json& json, std::string_view name);       // nullptr: none
std::string member_text(const Json& json, std::string_view name);  // "": none
std::optional<std::uint64_t> member_number(const Json& json, std::string_view name);

}  // namespace dingle
