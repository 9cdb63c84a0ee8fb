// Erasing stored events: they are gone from the files, not only hidden.
//
// Blocks are written anew without them, and what was there is overwritten (SQLite's secure_delete); dead letters that satisfy the
// condition go, too. The spool begins new segments; those that held the events are removed once every destination has passed them.
// What it cannot reach it names.
#pragma once

#include <cstdint>
#include <functional>
#include <map>
#include <set>
#include <string>
#include <unordered_set>
#include <vector>

#include "agent/engine/stored_choice.h"

namespace dingle {

class Erase {
 public:
  // `start`: of the spool when it began; events that are newer stay.
  Erase(Engine& engine, StoredChoice asked, LogNumber start, std::function<bool()> ends);
  // What is in the way, or "". Waits until the destination has passed all that is in the spool.
  std::string begin();
  enum class Went { on, to_end, ended };
  // The next events: looks at them, which says what `left` and `was_erased` answer; or takes them out of the index. All are looked at
  // before the first is taken out, so that who goes on after a kill need not know those that are gone.
  enum class Does { look, take_out };
  Went page(Does what, std::string& problem);
  bool scrub(std::string& problem);  // leaves nothing of them in its files
  std::string letters();             // what is in the way, or ""
  bool renew_spool(std::string& problem,
                   const std::function<void()>& waits);  // false: it was to end, or the problem
  void forget_samples();                                 // of memory
  std::vector<std::string> left() const;                 // what it cannot reach
  void ask_for(std::string_view line) { asked_lines_.insert(hash(line)); }  // before events are looked at
  bool was_erased(std::string_view line) const { return lines_.count(hash(line)) != 0; }

  std::uint64_t read = 0, erased = 0, letters_removed = 0;
  std::string waits_for;                                // the destination for which the spool keeps them
  std::map<std::string, std::uint64_t> by_index, seen;  // events that were taken out, and that were looked at

 private:
  static std::uint64_t hash(std::string_view line);
  Engine& engine_;
  const StoredChoice asked_;
  const LogNumber start_;
  const std::function<bool()> ends_;
  std::shared_ptr<Store> store_;
  std::uint32_t destination_ = 0;
  std::optional<EventPlace> after_;
  std::unordered_set<std::uint64_t> asked_lines_,
      lines_;                                // hashes of lines; of those that are the body of an event
  std::set<std::string> paths_, pipelines_;  // from which they came, and which made them
  std::size_t more_paths_ = 0;
  bool from_elsewhere_ = false;  // an agent elsewhere sent some
};

}  // namespace dingle
