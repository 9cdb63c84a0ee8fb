// One index: one SQLite file (16 KiB pages, WAL, synchronous=FULL).
//
//   block(id, first, last, count, directory)     event times in ns since 1970; block.h describes the
//   stored_chunk(id, data)                       of a block's columns; id: 65536 * block + number in the block
//   filter(block, data)                          bloom.h
//   progress(spool, destination, lane, epoch, number, ordinal)   how far this file has each lane of a sender
//   stored(spool, destination, events)           how many events of a sender blocks were written with
//   sender(spool, epoch, nonce)                  the newest opening of each spool that wrote here
//   taken(events)                                how many events were taken out of blocks again
//   moved(name, time, spool, epoch, number, ordinal)   events of other indexes whose place some of these took, until they are gone there
//
// Events, progress and counts are committed in one transaction: what is sent again after a crash is recognised
// and left out.
#pragma once

#include <array>
#include <cstdint>
#include <map>
#include <memory>
#include <mutex>
#include <optional>
#include <span>
#include <string>
#include <vector>

#include "store/block.h"
#include "store/sqlite.h"

namespace dingle {

inline constexpr unsigned kLanes = 8;

// The lane of a stream, fixed for ever: events of one stream keep their order within it.
unsigned lane_of(std::uint64_t stream);

struct Sender {
  std::uint64_t spool = 0, epoch = 0, nonce = 0;
  std::uint32_t destination = 0;
};

struct IndexInfo {
  std::string name;
  std::uint64_t events = 0, blocks = 0, bytes = 0;  // bytes on disk, with the write-ahead file
  std::uint64_t content = 0;                        // bytes that hold something, wherever they lie
  std::int64_t first = 0, last = 0;                 // event times; both 0 when there are no events
  std::uint64_t
      stored = 0,
      taken = 0;  // that blocks were written with, as those counted who wrote; that were taken out again
  std::int64_t arrival = 0;  // ns since 1970: when events were committed last, by this machine's clock
};

// Written by one thread. Readers open the file on their own.
class IndexFile {
 public:
  static constexpr int kVersion = 2;
  explicit IndexFile(const std::string& path);  // throws SqliteError

  // The events of one sender in their order, and what became of them.
  struct Request {
    Sender sender;
    std::span<const StoredEvent> events;
    std::uint64_t stored = 0, known = 0;  // stored: in blocks, as these count; known: were there already
    std::string refused;                  // not empty: nothing was stored, and why (a copied spool)
  };
  // Of stored events whose place others took: those that stand elsewhere, by index.
  struct Gone {
    std::int64_t timestamp = 0;
    EventOrder order;
  };
  using Moved = std::map<std::string, std::vector<Gone>>;
  // All of them in one transaction. An event that takes the place of another one of this index removes that; what stands in other
  // indexes is listed, in the same transaction. Durable when it returns. Throws SqliteError, then nothing was stored.
  void commit(std::span<Request* const> requests, BlockEncoder& encoder);
  Moved moved();                             // what is listed
  void forget_moved(const std::string& of);  // it is gone there
  // Takes events out; those that are not there are passed over. How many there were.
  std::uint64_t take_out(std::span<const Gone> gone, BlockEncoder& encoder);
  // Merges small neighbouring blocks where many have gathered; some milliseconds when there is something to
  // do.
  void merge(BlockEncoder& encoder);
  void forget_cache();  // of pages
  bool scrub() {
    return truncate_wal(connection_);
  }  // leaves nothing of what was removed; false: somebody reads it

 private:
  using Progress = std::map<std::pair<std::uint64_t, std::uint32_t>,  // spool and destination
                            std::array<std::optional<EventOrder>, kLanes>>;
  bool introduce(const Sender& sender, std::string& refused);
  void admit(Request& request, Progress& changed, std::vector<StoredEvent>& fresh);
  std::uint64_t remove_rows(std::span<const Gone> gone, BlockEncoder& encoder);
  std::uint64_t insert(std::span<const StoredEvent> events, BlockEncoder& encoder);
  void remove_blocks(std::span<const std::int64_t> ids);
  const std::string name_;
  Connection connection_;
  Progress progress_;  // as committed
};

// For readers. `filter`, `open`, and the blocks that it opened may be used by several threads.
class IndexReader {
 public:
  explicit IndexReader(const std::string& path);  // throws SqliteError
  struct BlockInfo {
    std::int64_t id = 0, first = 0, last = 0;
    std::uint64_t count = 0;
  };
  std::vector<BlockInfo> blocks(std::int64_t from,
                                std::int64_t to);  // that overlap [from, to]; the newest first
  std::string filter(std::int64_t block);          // "": it is damaged
  // nullptr if it was merged away meanwhile, or is damaged. Of a column that is, the block throws.
  std::unique_ptr<Block> open(std::int64_t block);
  // Holds one state of the file while the reader works.
  void begin() { connection_.run("BEGIN"); }
  void end() { connection_.run("COMMIT"); }

 private:
  std::optional<std::string> blob_of(std::optional<Statement>& statement, const char* sql,
                                     std::int64_t block);
  std::mutex mutex_;  // of the connection
  Connection connection_;
  std::optional<Statement> filter_, directory_, chunk_;  // prepared when they are first needed
};

std::int64_t newest_event(const std::string& path);  // its time; 0: there is none; throws SqliteError
IndexInfo read_index_info(const std::string& path);  // without a name; throws SqliteError

// A record of a sender's spool.
struct RecordNumber {
  std::uint64_t epoch = 0, number = 0;
  auto operator<=>(const RecordNumber&) const = default;
};
struct Held {
  RecordNumber newest;       // of which something is stored
  std::uint64_t stored = 0;  // events, as the transactions counted them that wrote them
};
// By spool and destination.
using HeldBySender = std::map<std::pair<std::uint64_t, std::uint32_t>, Held>;
void read_held(const std::string& path, HeldBySender& held);  // adds what a file has; throws SqliteError

}  // namespace dingle
