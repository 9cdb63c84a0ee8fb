// Fields by their names, some with `*` for any text.
#pragma once

#include <algorithm>
#include <string>
#include <string_view>
#include <vector>

#include "core/glob.h"
#include "core/names.h"

namespace dingle {

class FieldList {
 public:
  explicit FieldList(const std::vector<std::string>& written) {
    for (const std::string& name : written)
      if (name.find('*') != std::string::npos)
        globs_.push_back(name);
      else
        names_.push_back(field_id(name));
  }
  // By its id, or where there are patterns by its name: costs a comparison with each.
  bool has(FieldId field) const {
    return std::find(names_.begin(), names_.end(), field) != names_.end() ||
           std::any_of(globs_.begin(), globs_.end(),
                       [&](const std::string& glob) { return matches_glob(field_name(field), glob); });
  }
  const std::vector<FieldId>& names() const { return names_; }
  const std::vector<std::string>& globs() const { return globs_; }

 private:
  std::vector<FieldId> names_;
  std::vector<std::string> globs_;
};

}  // namespace dingle
