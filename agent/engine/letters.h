// Dead letters: events that a destination refused for good, kept with the reason. One SQLite file,
//   letter(id, destination, epoch, number, ordinal, at, attempts, reason, source, event, record)
// unique by (destination, log sequence number, ordinal), so that a replay after a crash sets nothing aside
// twice;
//   taken(destination, number, ordinal)
// those that were resent or discarded, while the spool has the records that they came from;
//   gone(destination, removed, lost)
// counts what was taken out by somebody, and what was found missing. The file is bounded: when it is full nothing more is kept, and whoever wants to keep a letter waits.
#pragma once

#include <cstdint>
#include <memory>
#include <optional>
#include <set>
#include <string>
#include <vector>

#include "spool/mutex.h"
#include "spool/spool.h"

namespace dingle {

class Connection;

struct Letter {
  std::uint32_t destination = 0;
  LogNumber number;
  std::uint32_t ordinal = 0;
  std::int64_t at = 0;  // ns since 1970
  std::uint32_t attempts = 0;
  std::string reason, event;  // event: one JSON object
  std::string source = {};
  std::string record =
      {};  // the event as in the spool (events.h), alone, for the same destination; or sealed (concealed.h)
  std::int64_t id = 0;  // given by the store; grows
};

// Which letters are meant. Members that are empty or 0 do not restrict.
struct LetterChoice {
  std::vector<std::int64_t> ids;
  std::uint32_t destination = 0;
  std::string reason;      // text that stands in the reason
  std::int64_t after = 0;  // ids behind this one
  std::int64_t until = 0;  // ids up to this one
};

// Thread-safe.
class Letters {
 public:
  explicit Letters(std::string path, std::uint64_t limit = UINT64_MAX);
  ~Letters();
  // Durable when it returns true. False: could not be kept (disk full, store full), try again; `problem` says
  // why.
  bool keep(const std::vector<Letter>& letters, std::string* problem);
  std::uint64_t count(std::uint32_t destination);
  // What is wrong with the file, or "". Reads it once.
  std::string check_file();
  // Compares with what the spool knows: so many of a destination's events were set aside in all. What is missing is counted as
  // `lost` and does not count again. Answers what is to be told, or "".
  std::string check(std::uint32_t destination, std::uint64_t set_aside);
  std::uint64_t lost(std::uint32_t destination);  // found missing, in all
  // What is kept of a destination behind a record, as (number, ordinal); also what was removed since, by `remove`: whoever
  // resent or discarded it has answered for it, though its batch may come once more.
  std::set<std::pair<std::uint64_t, std::uint32_t>> kept_behind(std::uint32_t destination,
                                                                std::uint64_t number);
  // The oldest first. Without `whole` the record is left out.
  std::vector<Letter> list(const LetterChoice& choice, std::size_t most, bool whole = false);
  struct Sum {
    std::uint32_t destination = 0;
    std::string reason;
    std::uint64_t letters = 0;
    std::int64_t first = 0, last = 0, example = 0;  // when set aside; the id of one
  };
  struct Extent {
    std::uint64_t letters = 0;
    std::int64_t last = 0;  // the largest id
  };
  Extent extent(const LetterChoice& choice);
  std::vector<Sum> by_reason(const LetterChoice& choice);  // the most first
  // Those of one destination, at most so many. Costs nothing while no letter comes or goes.
  std::vector<Sum> reasons(std::uint32_t destination, std::size_t most);
  std::uint64_t remove(const LetterChoice& choice);  // how many
  // Records before `first` do not come again.
  void forget_taken(std::uint32_t destination, std::uint64_t first);
  // That event's. False: it could not be removed, try again; `problem` says why.
  bool withdraw(std::uint32_t destination, const LogNumber& number, std::uint32_t ordinal,
                std::string* problem);
  // Leaves nothing of what was removed in its files. False: somebody reads them.
  bool scrub();
  std::uint64_t bytes();  // in use

 private:
  Connection& connection() REQUIRES(mutex_);  // opened at first need
  std::vector<Sum> sums(const LetterChoice& choice) REQUIRES(mutex_);
  Mutex mutex_;
  std::string path_;
  std::uint64_t limit_;
  std::unique_ptr<Connection> connection_ GUARDED_BY(mutex_);
  bool may_hold_taken_ GUARDED_BY(mutex_) = true;            // the table is not known to be empty
  std::optional<std::vector<Sum>> sums_ GUARDED_BY(mutex_);  // of all letters, while it is true
};

}  // namespace dingle
