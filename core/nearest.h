// Finds the valid name that a person most likely meant.
#pragma once

#include <string>
#include <string_view>
#include <vector>

namespace dingle {

// The candidate with the fewest edits (insert, delete, replace, swap of neighbours) to `name`,
// or "" if none is near: at most a third of the length, and at least one edit is always allowed.
std::string nearest(std::string_view name, const std::vector<std::string>& candidates);

// "did you mean `NAME`?", or "" when nothing is near.
std::string did_you_mean(std::string_view name, const std::vector<std::string>& candidates);

// "one of: a, b, c": all names when they are few, else the first twelve and how many more.
std::string one_of(const std::vector<std::string>& candidates);

}  // namespace dingle
