// JSON texts (RFC 8259) into fields: members of an object, and of the objects in it, with dotted names.
#pragma once

#include <cstdint>
#include <string_view>
#include <vector>

#include "core/arena.h"
#include "core/value.h"

namespace dingle {

struct JsonOptions {
  std::string_view prefix;         // before each name
  std::int64_t depth = 8;          // objects deeper than this are kept as maps
  const char* readable = nullptr;  // bytes up to here may be loaded; nullptr: the text's end
};

// Appends the members of the object that `text` is to `out`: null members are left out, lists are kept as
// lists. Texts are slices of `text` or of the arena. Answers "" or why it is no such text; then `out` may
// hold some of the members. `lost` counts members that have no name left in the table of names.
std::string_view json_members(std::string_view text, const JsonOptions& options, Arena& arena,
                              std::vector<Field>& out, std::uint64_t& lost);
// Any JSON text as one value: an object as a map, an array as a list. Absent if it is none or null.
Value json_value(std::string_view text, const char* readable, Arena& arena);
// Where the JSON object or array that starts at `at` ends, by its brackets and strings alone; nullptr if it
// does not within [at, end). Linear; at most 1000 levels.
const char* json_end(const char* at, const char* end);

}  // namespace dingle
