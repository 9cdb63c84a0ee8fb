// Shapes of lines, as the server samples them, for people.
#pragma once

#include <string>

#include "client/table.h"

namespace dingle {

// "from 2026-11-28T10:00:00 to 2026-11-28T10:05:00"
std::string time_range(const Client& client, const Json& shape);
// The templates that would match its lines, one a line or more, behind so many blanks.
void print_drafts(const Client& client, const Json& shape, std::size_t indent);
// What is not among the shapes that were asked for.
void print_rest(const Json& answer);

}  // namespace dingle
