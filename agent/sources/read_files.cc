#include "agent/sources/read_files.h"

#include <fmt/format.h>

#include <string_view>

#include "core/time/instant.h"

namespace dingle {
namespace {

constexpr const char* kGone = "was_read/";
constexpr const char* kThere = "file/";

}  // namespace

std::vector<StateChange> note_read(const Spool& spool, const std::string& source,
                                   const FileCheckpoint& read) {
  if (read.position == 0 || read.rungs.empty()) return {};
  const std::string prefix = kGone + source + "/";
  const auto before = spool.state_with_prefix(prefix);
  const std::string value = read.encode();
  for (const auto& [key, kept] : before)
    if (kept == value) return {};
  // In the order in which they were noted, by this machine's clock; several at once differ by their streams.
  std::vector<StateChange> changes{
      {fmt::format("{}{:016x}{:016x}", prefix, system_now(), read.stream), value, false}};
  auto oldest = before.begin();
  for (std::size_t n = before.size() + 1; n > kMostReadFiles; --n, ++oldest)
    changes.push_back({oldest->first, "", true});
  return changes;
}

std::vector<ReadFile> read_files(const Spool& spool) {
  std::vector<ReadFile> all;
  for (const char* prefix : {kThere, kGone})
    for (const auto& [key, value] : spool.state_with_prefix(prefix)) {
      const std::size_t name = std::string_view(prefix).size(), end = key.rfind('/');
      auto checkpoint = FileCheckpoint::decode(value);
      if (end <= name || !checkpoint || checkpoint->position == 0) continue;
      all.push_back({key.substr(name, end - name), std::move(*checkpoint)});
    }
  return all;
}

}  // namespace dingle
