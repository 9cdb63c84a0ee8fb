// What somebody meant who wrote a field's name where no event has such a field.
#pragma once

#include <cstddef>
#include <string>
#include <string_view>

namespace dingle {

// Where a field stands in a condition, outside texts; npos if it cannot be told.
std::size_t place_in(std::string_view condition, std::string_view field);

// Behind a comparison a name without quotes, or in double ones, was most likely meant as a text: says how texts are
// written. "" if the field stands elsewhere.
std::string text_meant(std::string_view condition, std::string_view field);

}  // namespace dingle
