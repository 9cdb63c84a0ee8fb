// JSON texts (RFC 8259) into fields: members of an object, and of the objects in it, with dotted names.
//
// Any bytes may come. Nesting is bounded (kDeepestJson, in objects and lists together), and nothing here
// recurses deeper.
#pragma once

#include <cstdint>
#include <functional>
#include <string_view>
#include <vector>

#include "core/arena.h"
#include "core/value.h"

namespace dingle {

inline constexpr std::size_t kDeepestJson = 128;
// Of a list or map that is a field's value: answers hold it deeper, and are JSON themselves.
inline constexpr std::size_t kDeepestValue = 100;

struct JsonOptions {
  std::string_view prefix;         // before each name
  std::int64_t depth = 8;          // objects deeper than this are kept as maps; at most kDeepestJson
  const char* readable = nullptr;  // bytes up to here may be loaded; nullptr: the text's end
};

// What could not be taken as it stood.
struct JsonCounts {
  std::uint64_t unnamed = 0;  // members whose names are too long (kLongestName)
  std::uint64_t as_text = 0;  // numbers that are neither a 64-bit integer nor a finite double, kept as they
                              // are written; strings with half a surrogate pair (U+FFFD in its place) or with
  // an escape that is none (kept as they are written); both in lists and maps, too;
  // lists and maps deeper than kDeepestValue (kept as they are written)
};

// Appends the members of the object that `text` is to `out`: null members are left out, lists are kept as
// lists. Texts are slices of `text` or of the arena. A member with a name that belongs to the event gets
// another (NameDictionary::foreign_id). Answers "" or why it is no such text; then `out` may hold some of the members.
std::string_view json_members(std::string_view text, const JsonOptions& options, Arena& arena,
                              std::vector<Field>& out, JsonCounts& counts);
// Any JSON text as one value: an object as a map, an array as a list, both without blanks and as any reader takes them (JsonCounts
// says what that means), or a text if they are deeper than kDeepestValue. Absent if it is none or null.
Value json_value(std::string_view text, Arena& arena);
// Calls `each` with the name and the text of every member of the object that `text` is; not for those of
// inner objects. False, maybe after some calls, if it is no sound object or `each` answers false. Names with
// escapes are kept in the arena.
bool json_each(std::string_view text, Arena& arena,
               const std::function<bool(std::string_view name, std::string_view value)>& each);
// The texts of the items of the array that `text` is, behind those that `items` has. False, with the reason, if it is no sound
// array, or has more than `most`.
bool json_items(std::string_view text, std::size_t most, std::vector<std::string_view>& items,
                std::string_view& why);
// Where the JSON object or array that starts at `at` ends; nullptr if none does, with the reason. Linear.
const char* json_end(const char* at, const char* end, std::string_view& why);
inline const char* json_end(const char* at, const char* end) {
  std::string_view why;
  return json_end(at, end, why);
}
// Whether the brackets in the text open more levels than that; reads no further than it must.
bool nests_deeper_than(std::string_view json, std::size_t levels);
// The number that `text` is, as a whole: a 64-bit integer, else the nearest double, else itself as a text.
// Absent if it is no number of JSON's.
Value json_number(std::string_view text);

}  // namespace dingle
