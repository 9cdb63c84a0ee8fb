// Which fields events may have at a place of a pipeline, as far as a configuration says: what `check` follows.
#pragma once

#include <map>
#include <set>
#include <string>
#include <string_view>
#include <vector>

#include "core/value.h"

namespace dingle {

class FieldsThere {
 public:
  // `kind`: of its values, if they are all of one; added again with another one it is not known any more.
  void add(std::string_view name, Kind kind = Kind::absent) {
    const auto [it, added] = own_.emplace(name, kind);
    if (!added && it->second != kind) it->second = Kind::absent;
  }
  // It is of that kind from now on.
  void become(std::string_view name, Kind kind) {
    if (const auto it = own_.find(name); it != own_.end()) it->second = kind;
  }
  // Absent if it is not known.
  Kind kind_of(std::string_view name) const {
    const auto it = own_.find(name);
    for (const std::string& prefix : prefixes_)
      if (name.starts_with(prefix)) return Kind::absent;
    return it == own_.end() ? Kind::absent : it->second;
  }
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
    for (const auto& [name, kind] : other.own_) add(name, kind);
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
  std::vector<std::string> own() const {
    std::vector<std::string> all;
    for (const auto& [name, kind] : own_) all.push_back(name);
    return all;
  }
  std::vector<std::string> names() const {  // with those of the resource
    std::vector<std::string> all = own();
    all.insert(all.end(), resource_.begin(), resource_.end());
    return all;
  }

 private:
  std::map<std::string, Kind, std::less<>> own_;  // with the kind of their values
  std::set<std::string, std::less<>> resource_;
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
