// Which fields events may have at a place of a pipeline, as far as a configuration says: what `check` follows.
#pragma once

#include <set>
#include <string>
#include <string_view>
#include <vector>

namespace dingle {

class FieldsThere {
 public:
  void add(std::string_view name) { names_.emplace(name); }
  // The data bring names of their own, each with that in front.
  void add_any(std::string_view prefix = "") { prefixes_.emplace(prefix); }
  void take_away(std::string_view name) { names_.erase(std::string(name)); }
  void take_all_away() {
    names_.clear();
    prefixes_.clear();
  }
  // Those of the other are there as well.
  void join(const FieldsThere& other) {
    names_.insert(other.names_.begin(), other.names_.end());
    prefixes_.insert(other.prefixes_.begin(), other.prefixes_.end());
  }

  enum class Has {
    no,
    may,  // if the data bring it
    yes,
  };
  Has has(std::string_view name) const {
    if (names_.count(name)) return Has::yes;
    for (const std::string& prefix : prefixes_)
      if (name.starts_with(prefix)) return Has::may;
    return Has::no;
  }
  std::vector<std::string> names() const { return {names_.begin(), names_.end()}; }

 private:
  std::set<std::string, std::less<>> names_;
  std::set<std::string> prefixes_;
};

// What a step says of itself while its pipeline is followed.
class StepFields {
 public:
  virtual ~StepFields() = default;
  // It reads this field, which its option names.
  virtual void reads(const char* option, std::string_view field) = 0;
  FieldsThere there;  // behind it: the step adds and takes away
};

}  // namespace dingle
