// Which fields events may have at a place of a pipeline, as far as a configuration says: what `check` follows.
#pragma once

#include <set>
#include <string>
#include <string_view>
#include <vector>

namespace dingle {

class FieldsThere {
 public:
  void add(std::string_view name) { own_.emplace(name); }
  // Of where lines come from: no step takes it away.
  void add_of_resource(std::string_view name) { resource_.emplace(name); }
  // The data bring names of their own, each with that in front.
  void add_any(std::string_view prefix = "") { prefixes_.emplace(prefix); }
  void take_away(std::string_view name) { own_.erase(std::string(name)); }
  void take_any_away() { prefixes_.clear(); }
  // For events that come from nowhere.
  void take_all_away() { *this = {}; }
  // Those of the other are there as well.
  void join(const FieldsThere& other) {
    own_.insert(other.own_.begin(), other.own_.end());
    resource_.insert(other.resource_.begin(), other.resource_.end());
    prefixes_.insert(other.prefixes_.begin(), other.prefixes_.end());
  }

  enum class Has {
    no,
    may,  // if the data bring it
    yes,
  };
  Has has(std::string_view name) const {
    if (own_.count(name) || resource_.count(name)) return Has::yes;
    for (const std::string& prefix : prefixes_)
      if (name.starts_with(prefix)) return Has::may;
    return Has::no;
  }
  std::vector<std::string> own() const { return {own_.begin(), own_.end()}; }
  std::vector<std::string> names() const {  // with those of the resource
    std::vector<std::string> all = own();
    all.insert(all.end(), resource_.begin(), resource_.end());
    return all;
  }

 private:
  std::set<std::string, std::less<>> own_, resource_;
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
