// Field ids (NameDictionary::foreign_id) of names that come again and again in the same order, as the keys of JSON
// lines and pairs do.
#pragma once

#include <string>
#include <string_view>
#include <vector>

#include "core/names.h"
#include "core/same_bytes.h"

namespace dingle {

// One a thread. Compares with the name that stood at the same place the last time, and asks the table of
// names only when it is another.
class NameMemo {
 public:
  FieldId id(std::size_t place, std::string_view prefix, std::string_view key, NameDictionary& names) {
    if (place >= kMost) return names.foreign_id(long_.assign(prefix).append(key));
    if (place >= names_.size()) names_.resize(place + 1);
    One& one = names_[place];
    if (one.id != kNoField && (one.lasting || one.dictionary == names.serial()) &&
        one.name.size() == prefix.size() + key.size() &&
        same_bytes(one.name.data(), prefix.data(), prefix.size()) &&
        same_bytes(one.name.data() + prefix.size(), key.data(), key.size()))
      return one.id;
    one.name.assign(prefix).append(key);
    one.id = names.foreign_id(one.name);
    one.lasting = one.id != kNoField && one.id->lasting;
    one.dictionary = names.serial();
    return one.id;
  }

 private:
  static constexpr std::size_t kMost = 256;
  struct One {
    std::string name;
    FieldId id = kNoField;
    bool lasting = false;
    std::uint64_t dictionary = 0;
  };
  std::vector<One> names_;
  std::string long_;
};

}  // namespace dingle
