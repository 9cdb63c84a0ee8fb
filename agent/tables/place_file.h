// Databases of places in the MaxMind DB format (version 2), from memory that nobody else can shorten.
#pragma once

#include <memory>
#include <string_view>

#include "core/result.h"
#include "core/tables/places.h"

namespace dingle {

// A table of the places in such a file's bytes, which are copied. A damaged one is refused, or knows less; it never reads outside.
Result<std::shared_ptr<const Table>> read_places(std::string_view bytes);

}  // namespace dingle
