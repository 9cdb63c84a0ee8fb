#include "store/index_file.h"

#include <sys/stat.h>
#include <xxhash.h>

#include <algorithm>
#include <filesystem>

#include "core/arena.h"
#include "core/time/instant.h"
#include "store/stored_chunks.h"

namespace dingle {
namespace {

constexpr std::int64_t kHour = 3600 * kSecond;
constexpr std::uint64_t kWholeBlock = kEventsPerBlock / 2;  // blocks from this size are left alone
constexpr std::size_t kMergeFrom = 8;                       // small blocks of one size and hour
constexpr std::size_t kMostMerged = 24;                     // blocks at once: what they hold is in memory
constexpr std::size_t kLargeBlock = 4u << 20;               // in bytes: left alone as well
constexpr std::size_t kMergedAtOnce = 32u << 20;            // bytes

std::int64_t hour_of(std::int64_t t) { return t / kHour - (t % kHour < 0); }

constexpr const char* kSchema = R"(
CREATE TABLE IF NOT EXISTS block(id INTEGER PRIMARY KEY AUTOINCREMENT, first INTEGER NOT NULL, last INTEGER NOT NULL, count INTEGER NOT NULL, directory BLOB NOT NULL);
CREATE INDEX IF NOT EXISTS block_time ON block(last, first, count);
CREATE TABLE IF NOT EXISTS stored_chunk(id INTEGER PRIMARY KEY, data BLOB NOT NULL);
CREATE TABLE IF NOT EXISTS filter(block INTEGER PRIMARY KEY, data BLOB NOT NULL);
CREATE TABLE IF NOT EXISTS progress(spool INTEGER NOT NULL, destination INTEGER NOT NULL, lane INTEGER NOT NULL, epoch INTEGER NOT NULL, number INTEGER NOT NULL, ordinal INTEGER NOT NULL,
                                    PRIMARY KEY(spool, destination, lane)) WITHOUT ROWID;
CREATE TABLE IF NOT EXISTS stored(spool INTEGER NOT NULL, destination INTEGER NOT NULL, events INTEGER NOT NULL, PRIMARY KEY(spool, destination)) WITHOUT ROWID;
CREATE TABLE IF NOT EXISTS arrival(one INTEGER PRIMARY KEY CHECK(one = 1), last INTEGER NOT NULL);
CREATE TABLE IF NOT EXISTS moved(name BLOB NOT NULL, time INTEGER NOT NULL, spool INTEGER NOT NULL, epoch INTEGER NOT NULL, number INTEGER NOT NULL, ordinal INTEGER NOT NULL);
CREATE TABLE IF NOT EXISTS taken(one INTEGER PRIMARY KEY CHECK(one = 1), events INTEGER NOT NULL);
CREATE TABLE IF NOT EXISTS sender(spool INTEGER PRIMARY KEY, epoch INTEGER NOT NULL, nonce INTEGER NOT NULL);
)";

// A damaged page is no chunk; what cannot be read for another reason is not known.
std::optional<std::string> sound_chunk(Statement& query, std::int64_t block, std::size_t number) {
  try {
    return ask_chunk(query, block, number);
  } catch (const SqliteError& e) {
    query.reset();
    if (!is_damage(e)) throw;
    return std::nullopt;
  }
}

std::unique_ptr<Block> open_block(Connection& connection, std::int64_t id) {
  Statement s(connection.get(), "SELECT directory FROM block WHERE id = ?");
  s.bind(1, id);
  try {
    if (!s.step()) return nullptr;
  } catch (const SqliteError& e) {
    if (!is_damage(e)) throw;
    return nullptr;
  }
  const auto chunk = std::make_shared<Statement>(connection.get(), chunk_query(connection));
  return Block::open(s.blob(0), [chunk, id](std::size_t number) { return sound_chunk(*chunk, id, number); });
}

// Events of open blocks, with memory for their fields.
struct EventsOfBlocks {
  std::vector<StoredEvent> events;
  void add(const Block& block, std::size_t row) {
    StoredEvent& event = events.emplace_back(block.event(row, own_, more_));
    event.fields = kept(own_);
    event.more = kept(more_);
  }

 private:
  std::span<const Field> kept(const std::vector<Field>& fields) {
    auto* to = static_cast<Field*>(arena_.allocate(std::max<std::size_t>(1, fields.size()) * sizeof(Field)));
    std::copy(fields.begin(), fields.end(), to);
    return {to, fields.size()};
  }
  Arena arena_;
  std::vector<Field> own_, more_;
};

}  // namespace

unsigned lane_of(std::uint64_t stream) {
  return static_cast<unsigned>(XXH64(&stream, sizeof stream, 0) % kLanes);
}

IndexFile::IndexFile(const std::string& path)
    : name_(std::filesystem::path(path).stem().string()),
      connection_(path, SQLITE_OPEN_READWRITE | SQLITE_OPEN_CREATE | SQLITE_OPEN_NOMUTEX) {
  connection_.run(
      "PRAGMA page_size=16384; PRAGMA journal_mode=WAL; PRAGMA synchronous=FULL; PRAGMA cache_size=-1024; "
      "PRAGMA wal_autocheckpoint=1000; PRAGMA secure_delete=ON;");
  std::int64_t version = 0;
  {
    Statement s(connection_.get(), "PRAGMA user_version");
    if (s.step()) version = s.integer(0);
  }
  if (version > kVersion) throw SqliteError(SQLITE_ERROR, path + " was written by a newer version of Dingle");
  const bool complete = [&] {  // files of earlier programs lack these
    Statement s(connection_.get(),
                "SELECT count(*) FROM sqlite_master WHERE name IN ('arrival', 'stored', 'moved', 'taken', "
                "'stored_chunk') AND type = 'table'");
    return s.step() && s.integer(0) == 5;
  }();
  if (version == 0 || !complete) {
    Transaction transaction(connection_);
    connection_.run(kSchema);
    connection_.run(("PRAGMA user_version=" + std::to_string(kVersion)).c_str());
    transaction.commit();
  }
}

// False if the sender's spool was copied: another opening of it has written here.
bool IndexFile::introduce(const Sender& sender, std::string& refused) {
  Statement s(connection_.get(), "SELECT epoch, nonce FROM sender WHERE spool = ?");
  s.bind(1, sender.spool);
  const bool known = s.step();
  if (known && (s.number(0) > sender.epoch || (s.number(0) == sender.epoch && s.number(1) != sender.nonce))) {
    refused =
        "a copy of this spool has written here already: two programs must not run from one spool (its epoch "
        "is " +
        std::to_string(s.number(0)) + ", ours is " + std::to_string(sender.epoch) + ")";
    return false;
  }
  if (!known || s.number(0) != sender.epoch) {
    Statement put(connection_.get(), "INSERT OR REPLACE INTO sender VALUES(?, ?, ?)");
    put.bind(1, sender.spool).bind(2, sender.epoch).bind(3, sender.nonce).run();
  }
  return true;
}

// Adds to `fresh` what of the request is not stored yet, and moves the sender's progress in `changed`.
void IndexFile::admit(Request& request, Progress& changed, std::vector<StoredEvent>& fresh) {
  const Sender& sender = request.sender;
  request.stored = request.known = 0;
  if (!introduce(sender, request.refused)) return;
  const auto [it, first] = changed.try_emplace({sender.spool, sender.destination});
  if (first) {
    if (auto committed = progress_.find(it->first); committed != progress_.end()) {
      it->second = committed->second;
    } else {
      Statement s(connection_.get(),
                  "SELECT lane, epoch, number, ordinal FROM progress WHERE spool = ? AND destination = ?");
      s.bind(1, sender.spool).bind(2, static_cast<std::int64_t>(sender.destination));
      while (s.step())
        if (s.number(0) < kLanes)
          it->second[s.number(0)] = EventOrder{sender.spool, s.number(1), s.number(2), s.number(3)};
    }
  }
  for (const StoredEvent& e : request.events) {
    std::optional<EventOrder>& reached = it->second[lane_of(e.stream)];
    if (reached && e.order <= *reached) {
      ++request.known;
      continue;
    }
    reached = e.order;
    fresh.push_back(e);
  }
}

void IndexFile::commit(std::span<Request* const> requests, BlockEncoder& encoder) {
  Transaction transaction(connection_);
  Progress changed;
  std::vector<StoredEvent> fresh;
  std::uint64_t admitted = 0;
  for (Request* r : requests) {
    admit(*r, changed, fresh);
    r->stored = fresh.size() - std::exchange(admitted, fresh.size());
  }
  std::vector<Gone> gone;  // of this index
  Statement move(connection_.get(), "INSERT INTO moved VALUES(?, ?, ?, ?, ?, ?)");
  for (const StoredEvent& e : fresh) {
    if (e.replaces == nullptr) continue;
    const Replaced& old = *e.replaces;
    if (old.index == name_) {
      gone.push_back({old.timestamp, {old.spool, old.epoch, old.number, old.ordinal}});
      continue;
    }
    move.bind_blob(1, old.index)
        .bind(2, old.timestamp)
        .bind(3, old.spool)
        .bind(4, old.epoch)
        .bind(5, old.number)
        .bind(6, old.ordinal)
        .run();
  }
  remove_rows(gone, encoder);
  // What is counted is what the blocks hold, not what was given to them. What differs has no one's name on it.
  const std::uint64_t inserted = insert(fresh, encoder);
  if (inserted != admitted) requests.front()->stored += inserted - admitted;
  Statement count(connection_.get(),
                  "INSERT INTO stored VALUES(?1, ?2, ?3) ON CONFLICT DO UPDATE SET events = events + ?3");
  for (const Request* r : requests)
    if (r->stored != 0)
      count.bind(1, r->sender.spool)
          .bind(2, static_cast<std::int64_t>(r->sender.destination))
          .bind(3, r->stored)
          .run();
  if (!fresh.empty()) {
    Statement arrived(connection_.get(), "INSERT OR REPLACE INTO arrival VALUES(1, ?)");
    arrived.bind(1, system_now()).run();
  }
  Statement put(connection_.get(), "INSERT OR REPLACE INTO progress VALUES(?, ?, ?, ?, ?, ?)");
  for (const auto& [sender, lanes] : changed) {
    const auto before = progress_.find(sender);
    for (unsigned lane = 0; lane < kLanes; ++lane) {
      if (!lanes[lane] || (before != progress_.end() && before->second[lane] == lanes[lane])) continue;
      put.bind(1, sender.first)
          .bind(2, static_cast<std::int64_t>(sender.second))
          .bind(3, static_cast<std::int64_t>(lane))
          .bind(4, lanes[lane]->epoch)
          .bind(5, lanes[lane]->number)
          .bind(6, lanes[lane]->ordinal)
          .run();
    }
  }
  transaction.commit();
  for (auto& [sender, lanes] : changed) progress_[sender] = lanes;
}

// Groups the events by the hour of their times, and writes blocks of each. How many events these hold.
std::uint64_t IndexFile::insert(std::span<const StoredEvent> events, BlockEncoder& encoder) {
  if (events.empty()) return 0;
  std::uint64_t inserted = 0;
  std::map<std::int64_t, std::vector<StoredEvent>> hours;
  const std::int64_t first_hour = hour_of(events[0].timestamp);
  const bool one = std::all_of(events.begin(), events.end(),
                               [&](const StoredEvent& e) { return hour_of(e.timestamp) == first_hour; });
  if (!one)
    for (const StoredEvent& e : events) hours[hour_of(e.timestamp)].push_back(e);
  Statement block(connection_.get(), "INSERT INTO block(first, last, count, directory) VALUES(?, ?, ?, ?)");
  Statement chunk(connection_.get(), "INSERT INTO stored_chunk VALUES(?, ?)");
  Statement filter(connection_.get(), "INSERT INTO filter VALUES(?, ?)");
  auto write = [&](std::span<const StoredEvent> rest) {
    while (!rest.empty()) {
      std::size_t taken = 0;
      EncodedBlock encoded = encoder.encode(rest, taken);
      rest = rest.subspan(taken);
      inserted += encoded.count;
      block.bind(1, encoded.first)
          .bind(2, encoded.last)
          .bind(3, static_cast<std::int64_t>(encoded.count))
          .bind_blob(4, encoded.directory)
          .run();
      const std::int64_t id = connection_.last_row();
      for (std::size_t i = 0; i < encoded.chunks.size(); ++i)
        chunk.bind(1, chunk_id(id, i)).bind_blob(2, encoded.chunks[i]).run();
      filter.bind(1, id).bind_blob(2, encoded.filter).run();
    }
  };
  if (one) write(events);
  for (const auto& [hour, list] : hours) write(list);
  return inserted;
}

void IndexFile::forget_cache() { sqlite3_db_release_memory(connection_.get()); }

void IndexFile::merge(BlockEncoder& encoder) {
  // Small blocks by hour and order of size, so that an event is written again only a few times in all.
  struct Group {
    std::vector<std::int64_t> ids;
    std::size_t bytes = 0;
  };
  std::map<std::pair<std::int64_t, int>, Group> groups;
  {
    Statement s(connection_.get(),
                "SELECT id, first, count, directory FROM block WHERE count < ? ORDER BY id");
    s.bind(1, kWholeBlock);
    while (s.step()) {
      int tier = 0;
      for (std::int64_t n = s.integer(2); n >= 8; n /= 8) ++tier;
      Group& group = groups[{hour_of(s.integer(1)), tier}];
      const auto block = Block::open(s.blob(3), [](std::size_t) { return std::nullopt; });
      const std::size_t bytes = block ? block->bytes() : kLargeBlock;
      if (bytes >= kLargeBlock || group.bytes + bytes > kMergedAtOnce || group.ids.size() == kMostMerged)
        continue;
      group.ids.push_back(s.integer(0));
      group.bytes += bytes;
    }
  }
  for (const auto& [key, group] : groups) {
    const std::vector<std::int64_t>& ids = group.ids;
    if (ids.size() < kMergeFrom) continue;
    Transaction transaction(connection_);
    std::vector<std::unique_ptr<Block>> blocks;
    EventsOfBlocks all;
    bool whole = true;
    for (std::int64_t id : ids) {
      auto block = open_block(connection_, id);
      if (!block) {
        whole = false;
        break;
      }
      for (std::size_t row = 0; row < block->count(); ++row) all.add(*block, row);
      whole = whole && !block->damaged();
      blocks.push_back(std::move(block));
    }
    std::vector<StoredEvent>& events = all.events;
    if (!whole) continue;  // a damaged block stays as it is: merging would make the loss final
    std::sort(events.begin(), events.end(),
              [](const StoredEvent& a, const StoredEvent& b) { return a.order < b.order; });
    std::uint64_t counted = 0;
    for (const auto& block : blocks) counted += block->count();
    if (insert(events, encoder) != counted) continue;  // nothing of it stays
    remove_blocks(ids);
    transaction.commit();
  }
}

void IndexFile::remove_blocks(std::span<const std::int64_t> ids) {
  std::vector<const char*> deletions{"DELETE FROM block WHERE id = ?", "DELETE FROM filter WHERE block = ?",
                                     "DELETE FROM stored_chunk WHERE id >= ?1 << 16 AND id < ?1 + 1 << 16"};
  if (has_table(connection_, "chunk")) deletions.push_back("DELETE FROM chunk WHERE block = ?");
  for (const char* sql : deletions) {
    Statement s(connection_.get(), sql);
    for (const std::int64_t id : ids) s.bind(1, id).run();
  }
}

// In a transaction of the caller's. What stays of a block becomes another one.
std::uint64_t IndexFile::remove_rows(std::span<const Gone> gone, BlockEncoder& encoder) {
  if (gone.empty()) return 0;
  std::vector<EventOrder> orders;
  std::vector<std::int64_t> times;
  for (const Gone& g : gone) orders.push_back(g.order), times.push_back(g.timestamp);
  std::sort(orders.begin(), orders.end());
  std::sort(times.begin(), times.end());
  std::vector<std::int64_t> ids;
  Statement s(connection_.get(), "SELECT id, first, last FROM block WHERE last >= ? AND first <= ?");
  s.bind(1, times.front()).bind(2, times.back());
  while (s.step())
    if (const auto t = std::lower_bound(times.begin(), times.end(), s.integer(1));
        t != times.end() && *t <= s.integer(2))
      ids.push_back(s.integer(0));
  std::uint64_t removed = 0;
  for (const std::int64_t id : ids) {
    const auto block = open_block(connection_, id);
    if (!block) continue;
    EventsOfBlocks kept;
    const std::uint64_t before = removed;
    for (std::size_t row = 0; row < block->count(); ++row)
      if (std::binary_search(orders.begin(), orders.end(), block->order(row)))
        ++removed;
      else
        kept.add(*block, row);
    // What cannot be read stays: it would be lost for good.
    if (removed == before || block->damaged()) {
      removed = before;
      continue;
    }
    if (insert(kept.events, encoder) != kept.events.size())
      throw SqliteError(SQLITE_CORRUPT, "what stays of a block could not be written");
    remove_blocks({&id, 1});
  }
  Statement count(connection_.get(),
                  "INSERT INTO taken VALUES(1, ?1) ON CONFLICT DO UPDATE SET events = events + ?1");
  if (removed != 0) count.bind(1, removed).run();
  return removed;
}

std::uint64_t IndexFile::take_out(std::span<const Gone> gone, BlockEncoder& encoder) {
  Transaction transaction(connection_);
  const std::uint64_t removed = remove_rows(gone, encoder);
  transaction.commit();
  return removed;
}

IndexFile::Moved IndexFile::moved() {
  Moved all;
  Statement s(connection_.get(), "SELECT name, time, spool, epoch, number, ordinal FROM moved");
  while (s.step())
    all[s.blob(0)].push_back({s.integer(1), {s.number(2), s.number(3), s.number(4), s.number(5)}});
  return all;
}

void IndexFile::forget_moved(const std::string& of) {
  Transaction transaction(connection_);
  Statement s(connection_.get(), "DELETE FROM moved WHERE name = ?");
  s.bind_blob(1, of).run();
  transaction.commit();
}

// A file that is just being made has no tables yet.
static bool is_made(Connection& connection) {
  Statement s(connection.get(), "PRAGMA user_version");
  return s.step() && s.integer(0) != 0;
}

// The path, once the file can be read: a program that was killed while it made the file left a journal beside it, which only who
// may write can take back. In WAL mode there is none later.
static const std::string& readable(const std::string& path) {
  if (std::error_code ignored; std::filesystem::exists(path + "-journal", ignored)) {
    Connection writer(path, SQLITE_OPEN_READWRITE | SQLITE_OPEN_NOMUTEX);
    is_made(writer);
  }
  return path;
}

IndexReader::IndexReader(const std::string& path)
    : connection_(readable(path), SQLITE_OPEN_READONLY | SQLITE_OPEN_NOMUTEX) {
  connection_.run("PRAGMA cache_size=-2048");
}

std::vector<IndexReader::BlockInfo> IndexReader::blocks(std::int64_t from, std::int64_t to) {
  if (!is_made(connection_)) return {};
  Statement s(connection_.get(),
              "SELECT id, first, last, count FROM block WHERE last >= ? AND first <= ? ORDER BY last DESC");
  s.bind(1, from).bind(2, to);
  std::vector<BlockInfo> all;
  while (s.step()) all.push_back({s.integer(0), s.integer(1), s.integer(2), s.number(3)});
  return all;
}

std::string IndexReader::filter(std::int64_t block) {
  try {
    return blob_of(filter_, "SELECT data FROM filter WHERE block = ?", block).value_or("");
  } catch (const SqliteError& e) {
    if (!is_damage(e)) throw;
    return "";
  }
}

std::unique_ptr<Block> IndexReader::open(std::int64_t block) {
  std::optional<std::string> directory;
  try {
    directory = blob_of(directory_, "SELECT directory FROM block WHERE id = ?", block);
  } catch (const SqliteError& e) {
    if (!is_damage(e)) throw;
  }
  if (!directory) return nullptr;
  return Block::open(
      *directory,
      [this, block](std::size_t number) {
        const std::lock_guard lock(mutex_);
        if (!chunk_) chunk_.emplace(connection_.get(), chunk_query(connection_));
        return sound_chunk(*chunk_, block, number);
      },
      true);
}

std::optional<std::string> IndexReader::blob_of(std::optional<Statement>& statement, const char* sql,
                                                std::int64_t block) {
  const std::lock_guard lock(mutex_);
  if (!statement) statement.emplace(connection_.get(), sql);
  statement->reset();
  statement->bind(1, block);
  const std::optional<std::string> blob =
      statement->step() ? std::optional(statement->blob(0)) : std::nullopt;
  statement->reset();
  return blob;
}

void read_held(const std::string& path, HeldBySender& held) {
  Connection connection(readable(path), SQLITE_OPEN_READONLY | SQLITE_OPEN_NOMUTEX);
  if (!is_made(connection)) return;
  Statement s(connection.get(), "SELECT spool, destination, epoch, number FROM progress");
  while (s.step()) {
    RecordNumber& known = held[{s.number(0), static_cast<std::uint32_t>(s.number(1))}].newest;
    known = std::max(known, RecordNumber{s.number(2), s.number(3)});
  }
  if (!has_table(connection, "stored")) return;
  Statement stored(connection.get(), "SELECT spool, destination, events FROM stored");
  while (stored.step())
    held[{stored.number(0), static_cast<std::uint32_t>(stored.number(1))}].stored += stored.number(2);
}

std::int64_t newest_event(const std::string& path) {
  Connection connection(readable(path), SQLITE_OPEN_READONLY | SQLITE_OPEN_NOMUTEX);
  if (!is_made(connection)) return 0;
  Statement s(connection.get(), "SELECT max(last) FROM block");
  return s.step() ? s.integer(0) : 0;
}

IndexInfo read_index_info(const std::string& path) {
  Connection connection(readable(path), SQLITE_OPEN_READONLY | SQLITE_OPEN_NOMUTEX);
  if (!is_made(connection)) return {};
  Statement s(
      connection.get(),
      "SELECT count(*), coalesce(sum(count), 0), coalesce(min(first), 0), coalesce(max(last), 0) FROM block");
  s.step();
  IndexInfo info;
  info.blocks = s.number(0);
  info.events = s.number(1);
  info.first = s.integer(2);
  info.last = s.integer(3);
  try {
    Statement arrived(connection.get(), "SELECT last FROM arrival");
    if (arrived.step()) info.arrival = arrived.integer(0);
  } catch (const SqliteError&) {
    // Of an earlier program: the file's own time has to do.
  }
  for (const auto& [what, sql] : {std::pair(&info.stored, "SELECT coalesce(sum(events), 0) FROM stored"),
                                  std::pair(&info.taken, "SELECT coalesce(sum(events), 0) FROM taken")}) {
    try {
      Statement sum(connection.get(), sql);
      if (sum.step()) *what = sum.number(0);
    } catch (const SqliteError&) {
      // Of an earlier program, which took nothing out.
    }
  }
  struct stat file;
  if (info.arrival == 0 && ::stat(path.c_str(), &file) == 0)
    info.arrival = file.st_mtim.tv_sec * kSecond + file.st_mtim.tv_nsec;
  const auto pragma = [&](const char* sql) {
    Statement answer(connection.get(), sql);
    return answer.step() ? answer.number(0) : 0;
  };
  info.content = (pragma("PRAGMA page_count") - pragma("PRAGMA freelist_count")) * pragma("PRAGMA page_size");
  for (const char* suffix : {"", "-wal"}) {
    std::error_code error;
    const auto size = std::filesystem::file_size(path + suffix, error);
    if (!error) info.bytes += size;
  }
  return info;
}

}  // namespace dingle
