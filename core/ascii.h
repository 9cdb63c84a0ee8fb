// What a byte of a text is, whatever the locale.
#pragma once

namespace dingle {

constexpr bool is_digit(char c) { return static_cast<unsigned char>(c - '0') <= 9; }
constexpr bool is_letter(char c) { return static_cast<unsigned char>((c | 0x20) - 'a') < 26; }
constexpr char lower_ascii(char c) { return c >= 'A' && c <= 'Z' ? static_cast<char>(c | 0x20) : c; }
constexpr bool is_hex(char c) { return is_digit(c) || static_cast<unsigned char>((c | 0x20) - 'a') <= 5; }

}  // namespace dingle
