// Stored events, put through the pipelines as they are now, and stored again in their own place.
//
// Reads a local `index` destination page by page, the oldest first; what becomes of a page goes into the spool as records whose
// events name the stored ones that they replace (spool/events.h). The index takes those out in the transaction that brings the
// others, or right behind it (store/store.h), so that each event is there once.
//
// Exact over crashes: who goes on first waits until the destination has passed all that is in the spool; what was put there
// before has replaced what it was made of then, and is not read again, since only events are read that are not newer than the
// beginning. A page is judged whole before anything of it is done, and `planned` is told what will have been counted by its end:
// who was killed in its middle does the rest of it, and takes over those counts.
#pragma once

#include <cstdint>
#include <functional>
#include <map>
#include <memory>
#include <optional>
#include <string>
#include <utility>
#include <vector>

#include "agent/engine/siblings.h"
#include "agent/engine/stored_choice.h"
#include "agent/json.h"

namespace dingle {

class Rerun {
 public:
  // Where it goes on.
  struct Place {
    LogNumber start;                  // of the spool, when it began: newer events are not read
    std::optional<EventPlace> after;  // behind this one
    std::optional<EventPlace>
        until;  // a page to there was begun, and perhaps not ended: what is left of it is not counted
  };
  struct Counts {
    std::uint64_t read = 0;
    std::uint64_t replaced = 0;   // by one or more events
    std::uint64_t made = 0;       // so many
    std::uint64_t moved = 0;      // of those, into another index
    std::uint64_t unchanged = 0;  // the same would come of it: left
    std::uint64_t dropped = 0;    // a step drops it now: removed
    // Left as they are:
    std::uint64_t unmatched = 0;    // a step cannot work on it now
    std::uint64_t not_taken = 0;    // the pipeline does not let it in now
    std::uint64_t altered = 0;      // its body is not the line as it came: it cannot be taken apart again
    std::uint64_t of_steps = 0;     // a step with memory made it, or it stands for several
    std::uint64_t no_pipeline = 0;  // its pipeline or its source is gone, or not joined any more
    // As members of a JSON object, and back.
    static const std::vector<std::pair<const char*, std::uint64_t Counts::*>>& all();
  };
  struct Example {
    std::string what;    // "replaced", "moved", "dropped", "unmatched"
    std::string why;     // of what is dropped or unmatched: which step, and why
    Json before, after;  // events; `after`: a list
  };
  static constexpr std::size_t kMostExamples = 3;  // of each sort
  static constexpr std::size_t kMostMoves = 1000;  // pairs of indexes that are told

  // The engine outlives it. `ends` is asked while it waits: true ends it where it is. `planned`: called before the first event of a
  // page is replaced or removed, with where that page begins and ends; the counts have it already.
  Rerun(Engine& engine, StoredChoice asked, std::optional<Place> place, std::function<bool()> ends,
        std::function<void(const Rerun&, const Place&)> planned);
  // What is in the way, or "". Waits until the destination has passed all that is in the spool.
  std::string begin();
  std::uint64_t count() const;  // events that are meant, about
  enum class Went { on, to_end, ended };
  // The next page. `problem`: why it ended. After a page that was begun before, the counts are those from before it.
  Went page(std::string& problem);
  // Waits until the destination has passed what was put into the spool. False: it was to end.
  bool finish();

  const Place& place() const { return place_; }
  Counts counts;
  std::vector<Example> examples;
  std::map<std::pair<std::string, std::string>, std::uint64_t> moves;  // events, by the indexes from and to

 private:
  struct Old;
  struct Group;
  struct Plan;
  struct Lines;
  struct Chosen;
  bool read(std::vector<Old>& page, std::string& problem, bool& last);
  void sort_out(const Engine::Running& running, std::vector<Old>& page, std::vector<Group>& groups);
  std::string judge(const Engine::Running& running, Group& group, std::vector<Old>& page,
                    std::vector<Plan>& plans);
  static std::unique_ptr<Lines> lines_of(const Group& group, const std::vector<Old>& page);
  std::vector<std::size_t> share_of(const Old& old, std::vector<std::size_t> its,
                                    std::span<const Event> events);
  void put_together(const Engine::Running& running, const Group& group, const std::vector<Old>& page,
                    const Lines& lines, const Work& work, const Work::Made& made,
                    std::span<const Chosen> chosen, Plan& plan);
  std::string carry_out(Plan& plan);
  void show(const char* what, const Old& old, const std::string& why, Json after = Json::array());

  Engine& engine_;
  const StoredChoice asked_;
  Place place_;
  const std::function<bool()> ends_;
  const std::function<void(const Rerun&, const Place&)> planned_;
  std::shared_ptr<Store> store_;
  std::uint32_t destination_ = 0;  // its id
  std::string secret_;             // of what is held; "" without one
  Siblings siblings_;
};

}  // namespace dingle
