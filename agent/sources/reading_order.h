// Which of a source's files are read first, so that lines keep their order across rotation.
//
// Files of one family follow one another: what was rotated away holds earlier lines than what took its place.
// Whenever a family gets a member, its members are caught up with in order, each to its end, before they are
// read side by side again.
#pragma once

#include <map>
#include <memory>
#include <string>
#include <utility>
#include <vector>

#include "agent/sources/tracked_file.h"

namespace dingle {

using TrackedFiles = std::map<std::pair<std::uint64_t, std::uint64_t>,  // device and inode
                              std::unique_ptr<TrackedFile>>;

// The folder, and the name up to its first sign that is not a letter: `gate.log`, `gate.log.1` and
// `gate-2026.log` in one folder are one family.
std::string family_of(const std::string& path);

// Those to be caught up with: first those that were known before, then by the time of their last change,
// oldest first; where the system's clock is too coarse to tell, the longer name is the older file, then what was seen
// to be renamed earlier, or not at all. Costs a look at each of them.
std::vector<TrackedFile*> to_catch_up(const std::vector<TrackedFile*>& files);

}  // namespace dingle
