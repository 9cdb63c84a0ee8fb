// Which indexes a store has, noted beside them: one that somebody took away is missed, rather than never known. The folder's file
// `indexes`: a name a line, then a line with the XXH3 of those before.
#pragma once

#include <set>
#include <string>

namespace dingle {

class Roster {
 public:
  explicit Roster(std::string folder) : folder_(std::move(folder)) {}
  // Noted durably; whether that could be written. Costs nothing for one that is known.
  bool add(const std::string& index);
  bool remove(const std::string& index);
  // What is noted; those that are there when a store meets a folder without a note, or with a damaged one, are noted then.
  const std::set<std::string>& names();

 private:
  bool write() const;
  const std::string folder_;
  std::set<std::string> names_;
  bool read_ = false;
};

}  // namespace dingle
