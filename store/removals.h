// Which indexes were removed from a folder, when and why: the newest kMostRemovals, in the folder's file `removed`, a line each.
#pragma once

#include <cstddef>
#include <cstdint>
#include <string>
#include <vector>

namespace dingle {

inline constexpr std::size_t kMostRemovals = 200;

struct Removed {
  std::string index, why;
  std::uint64_t events = 0, bytes = 0;
  std::int64_t at = 0;  // ns since 1970 UTC
};

// Noted before the index goes, so that none goes unsaid; whether that could be written. Not thread-safe for one folder.
bool note_removed(const std::string& folder, const Removed& removed);
// The oldest first; what cannot be read is left out.
std::vector<Removed> removed_from(const std::string& folder);

}  // namespace dingle
