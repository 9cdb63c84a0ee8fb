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
  // To be called before `id`, for each text: whose ids are wanted. The dictionary outlives the calls.
  void use(NameDictionary& names) {
    names_ = &names;
    if (names.serial() == serial_) return;
    serial_ = names.serial();
    for (One& one : known_)
      if (one.id != kNoField && !one.lasting) one.id = kNoField;
  }
  FieldId id(std::size_t place, std::string_view prefix, std::string_view key) {
    if (place >= known_.size()) return new_place(place, prefix, key);
    One& one = known_[place];
    if (one.id != kNoField && one.name.size() == prefix.size() + key.size() &&
        same_bytes(one.name.data(), prefix.data(), prefix.size()) &&
        same_bytes(one.name.data() + prefix.size(), key.data(), key.size()))
      return one.id;
    return another(one, prefix, key);
  }

 private:
  static constexpr std::size_t kMost = 256;
  struct One {
    std::string name;
    FieldId id = kNoField;
    bool lasting = false;  // its id holds in every dictionary; the others' texts may be gone
  };
  // Apart, so that what happens nearly always is short.
  [[gnu::noinline]] FieldId another(One& one, std::string_view prefix, std::string_view key) {
    one.name.assign(prefix).append(key);
    one.id = names_->foreign_id(one.name);
    one.lasting = one.id != kNoField && one.id->lasting;
    return one.id;
  }
  [[gnu::noinline]] FieldId new_place(std::size_t place, std::string_view prefix, std::string_view key) {
    if (place >= kMost) return names_->foreign_id(long_.assign(prefix).append(key));
    known_.resize(place + 1);
    return another(known_[place], prefix, key);
  }
  std::vector<One> known_;
  NameDictionary* names_ = nullptr;
  std::uint64_t serial_ = 0;
  std::string long_;
};

}  // namespace dingle
