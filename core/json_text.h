// Writing JSON text (RFC 8259) piece by piece, without a tree.
#pragma once

#include <cstdint>
#include <string>
#include <string_view>

namespace dingle {

// Appends `text` as a JSON string with quotes. Bytes that are not valid UTF-8 come out as U+FFFD each.
void append_json_string(std::string& out, std::string_view text);
void append_json_integer(std::string& out, std::int64_t number);
// Appends a finite number in its shortest form that reads back equal; NaN and infinities as null.
void append_json_number(std::string& out, double number);
// A copy in which each byte that is not part of valid UTF-8 is U+FFFD.
std::string valid_utf8(std::string_view text);

}  // namespace dingle
