// Lines that somebody keeps under a name, to rehearse with: files `samples/NAME.json` in the data folder, 0600.
//
// Of a source whose lines a pipeline hides none are kept; sets that are there already are told as a problem. Thread-safe.
#pragma once

#include <cstdint>
#include <mutex>
#include <optional>
#include <string>
#include <vector>

#include "agent/engine/engine.h"

namespace dingle {

struct SampleSet {
  std::string name, source, by;
  std::int64_t at = 0;  // when it was last changed; ns since 1970 UTC
  std::vector<std::string> lines;
  std::size_t bytes() const;
};

class SampleSets {
 public:
  static constexpr std::size_t kMostSets = 100, kMostLines = 1000, kMostBytes = 1 << 20;
  explicit SampleSets(std::string folder) : folder_(std::move(folder)) {}

  static bool is_name(
      std::string_view text);              // letters, digits, `.`, `_`, `-`; not a dot in front; at most 80
  std::vector<std::string> names() const;  // sorted
  // Nothing if there is none of that name; a damaged one is a `problem`.
  std::optional<SampleSet> get(const std::string& name, std::string& problem) const;
  // Adds lines to the set, or makes it with these alone. "", or why not; then nothing changed.
  std::string keep(SampleSet set, bool add, const Configuration& configuration);
  bool remove(const std::string& name);
  // Tells of sets that hold lines which a pipeline hides by now.
  void look(Engine& engine) const;

 private:
  std::string path_of(const std::string& name) const { return folder_ + "/" + name + ".json"; }
  std::optional<SampleSet> read(const std::string& name, std::string& problem) const;
  const std::string folder_;
  mutable std::mutex mutex_;
  mutable std::vector<std::string> told_;
};

class Api;
// Throws Refused with the nearest name if there is none.
SampleSet sample_set_of(Api& api, const std::string& name, const char* parameter);

}  // namespace dingle
