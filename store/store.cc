#include "store/store.h"

#include <fmt/format.h>
#include <sys/stat.h>
#include <xxhash.h>

#include <algorithm>
#include <cstring>
#include <filesystem>
#include <fstream>
#include <sstream>

#include "core/options/options.h"
#include "core/time/instant.h"
#include "spool/whole_file.h"

namespace dingle {
namespace {

constexpr std::size_t kMostOpen = 32;
constexpr std::size_t kLongestIndexName = 120;

bool is_name_byte(char c) {
  return (c >= 'a' && c <= 'z') || (c >= 'A' && c <= 'Z') || (c >= '0' && c <= '9') || c == '.' || c == '_' ||
         c == '-';
}

}  // namespace

bool is_index_name(std::string_view text) {
  return !text.empty() && text.size() <= kLongestIndexName && text[0] != '.' &&
         std::all_of(text.begin(), text.end(), is_name_byte);
}

std::string index_name(std::string_view text) {
  std::string name(text);
  if (name.size() >
      kLongestIndexName) {  // its end stays, where the day usually stands; a hash tells it from others
    const std::string hash =
        fmt::format("~{:08x}~", static_cast<std::uint32_t>(XXH3_64bits(text.data(), text.size())));
    name = name.substr(0, kLongestIndexName - 40 - hash.size()) + hash + name.substr(name.size() - 40);
  }
  for (char& c : name)
    if (!is_name_byte(c)) c = '_';
  if (name.empty()) return "unnamed";
  if (name[0] == '.') name[0] = '_';
  return name;
}

Store::Store(std::string folder) : folder_(std::move(folder)), roster_(folder_) {
  std::error_code error;
  if (!std::filesystem::exists(folder_ + "/moving", error)) return;
  moves_.begin();
  unfinished_ = true;
  complete_all();  // else it is tried again, and nobody searches before
}

bool Store::complete(const std::string& index) {
  const IndexFile::Moved moved = open(index).moved();
  for (const auto& one : moved) {
    const std::string& from = one.first;
    const std::vector<IndexFile::Gone>& gone = one.second;
    std::error_code error;
    if (from != index && is_index_name(from) && std::filesystem::exists(path_of(from), error)) {
      try {
        open(from).take_out(gone, encoder_);
        open_.front().written = true;
      } catch (const SqliteError& e) {
        std::erase_if(open_, [&](const Open& o) { return o.name == from; });
        if (!is_damage(e)) return false;  // what is damaged is not found either
      }
    }
    open(index).forget_moved(from);
  }
  return true;
}

bool Store::complete_all() {
  bool all = true;
  for (const std::string& name : names()) {
    try {
      all = complete(name) && all;
    } catch (const SqliteError& e) {
      std::erase_if(open_, [&](const Open& o) { return o.name == name; });
      all = all && is_damage(e);
    }
  }
  std::error_code error;
  unfinished_ = !all;
  if (!all) return false;
  std::filesystem::remove(folder_ + "/moving", error);
  moves_.end();
  return true;
}

bool Store::scrub() {
  std::lock_guard lock(mutex_);
  bool all = true;
  for (const std::string& name : names()) {
    std::error_code error;
    const auto size = std::filesystem::file_size(path_of(name) + "-wal", error);
    if (error || size == 0) continue;
    try {
      all = open(name).scrub() && all;
    } catch (const SqliteError& e) {
      std::erase_if(open_, [&](const Open& o) { return o.name == name; });
      all = all && is_damage(e);
    }
  }
  return all;
}

Result<std::uint64_t> Store::take_out(const std::string& index, std::span<const IndexFile::Gone> gone) {
  std::lock_guard lock(mutex_);
  std::error_code error;
  if (!is_index_name(index) || !std::filesystem::exists(path_of(index), error)) return std::uint64_t{0};
  try {
    const std::uint64_t n = open(index).take_out(gone, encoder_);
    open_.front().written = true;
    changes_ += n != 0;
    return n;
  } catch (const SqliteError& e) {
    std::erase_if(open_, [&](const Open& o) { return o.name == index; });
    return Problem{"index " + index + ": " + e.what(), "", 0, 0};
  }
}

std::shared_ptr<Store> Store::at(const std::string& folder) {
  static std::mutex mutex;
  static std::map<std::string, std::weak_ptr<Store>> all;
  std::lock_guard lock(mutex);
  std::shared_ptr<Store> store = all[folder].lock();
  if (!store) all[folder] = store = std::shared_ptr<Store>(new Store(folder));
  return store;
}

IndexFile& Store::open(const std::string& index) {
  for (auto it = open_.begin(); it != open_.end(); ++it)
    if (it->name == index) {
      open_.splice(open_.begin(), open_, it);
      return *open_.front().file;
    }
  if (std::filesystem::create_directories(folder_)) ::chmod(folder_.c_str(), 0700);
  auto file = std::make_unique<IndexFile>(path_of(index));
  {  // before anything is committed to it
    const std::lock_guard lock(roster_mutex_);
    if (!roster_.add(index)) throw SqliteError(SQLITE_FULL, folder_ + "/indexes cannot be written");
  }
  open_.push_front({index, std::move(file), false});
  while (open_.size() > kMostOpen) open_.pop_back();
  return *open_.front().file;
}

Store::Outcome Store::commit(const std::string& index, const Sender& sender,
                             std::span<const StoredEvent> events) {
  Pending own{&index, {sender, events, 0, 0, ""}, {}, false};
  std::unique_lock lock(queue_mutex_);
  queue_.push_back(&own);
  // Whoever comes first commits what all brought; the others wait for it.
  while (!own.done) {
    if (committing_) {
      queue_moved_.wait(lock);
      continue;
    }
    committing_ = true;
    std::vector<Pending*> together;
    for (Pending* p : queue_)
      if (*p->index == index) together.push_back(p);
    std::erase_if(queue_, [&](Pending* p) { return *p->index == index; });
    lock.unlock();
    commit(together);
    lock.lock();
    for (Pending* p : together) p->done = true;
    committing_ = false;
    queue_moved_.notify_all();
  }
  return own.outcome;
}

// All of them go to one index.
void Store::commit(const std::vector<Pending*>& together) {
  const std::string& index = *together.front()->index;
  auto failed = [&](const std::string& reason) {
    for (Pending* p : together) p->outcome = {Outcome::Form::retry, 0, 0, reason};
    held_.reset();  // a transaction whose sync failed may be there all the same
  };
  std::vector<IndexFile::Request*> requests;
  for (Pending* p : together) requests.push_back(&p->request);
  // Whether some stand in another index so far: nobody searches until they are gone there.
  const bool moves = std::any_of(together.begin(), together.end(), [&](const Pending* p) {
    return std::any_of(p->request.events.begin(), p->request.events.end(), [&](const StoredEvent& e) {
      return e.replaces != nullptr && e.replaces->index != index;
    });
  });
  if (moves) moves_.begin();  // may wait for who searches
  std::lock_guard lock(mutex_);
  try {
    if (unfinished_ && !complete_all())
      return failed("events that were moved before could not be taken out of where they stood");
    if (moves) {
      moves_.begin();  // still, or again
      std::error_code error;
      if (!std::filesystem::exists(folder_ + "/moving", error)) {
        std::filesystem::create_directories(folder_);
        if (const int code = write_whole(folder_ + "/moving", "1\n", 0600); code != 0)
          throw SqliteError(SQLITE_FULL, folder_ + "/moving cannot be written: " + std::strerror(code));
      }
    }
    open(index).commit(requests, encoder_);
    open_.front().written = true;
    ++transactions_;
    changes_ += std::any_of(together.begin(), together.end(), [](const Pending* p) {
      return std::any_of(p->request.events.begin(), p->request.events.end(),
                         [](const StoredEvent& e) { return e.replaces != nullptr; });
    });
    if (moves) unfinished_ = !complete(index);
    if (moves && !unfinished_) moves_.end();
  } catch (const SqliteError& error) {
    failed("index " + index + ": " + error.what() +
           (is_damage(error) ? "; the file " + path_of(index) +
                                   " is damaged: move it away, and a new one is begun (what stands in "
                                   "it is then not searched), or put a copy from a backup in its place"
                             : ""));
    std::erase_if(open_, [&](const Open& o) { return o.name == index; });
    if (moves) complete_all();  // mostly nothing was listed, and searching goes on
    return;
  } catch (const std::exception& error) {
    return failed(error.what());  // whatever it is, nobody waits for ever
  }
  for (Pending* p : together) {
    const IndexFile::Request& r = p->request;
    if (!r.refused.empty()) {
      p->outcome = {Outcome::Form::retry, 0, 0, r.refused};
      continue;
    }
    p->outcome = {Outcome::Form::committed, r.stored, r.known, ""};
    if (!held_ || r.events.empty()) continue;
    Held& held = (*held_)[{r.sender.spool, r.sender.destination}];
    held.newest =
        std::max(held.newest, RecordNumber{r.events.back().order.epoch, r.events.back().order.number});
    held.stored += r.stored;
  }
}

namespace {
void add(HeldBySender& into, const HeldBySender& more) {
  for (const auto& [sender, held] : more) {
    Held& known = into[sender];
    known.newest = std::max(known.newest, held.newest);
    known.stored += held.stored;
  }
}
}  // namespace

Store::Removal Store::read_removed() const {
  Removal removal;
  std::ifstream file(folder_ + "/held");
  for (std::string text; std::getline(file, text);) {
    std::istringstream line(text);
    if (text.starts_with("of ")) {
      line.ignore(3) >> removal.index;
      continue;
    }
    std::pair<std::uint64_t, std::uint32_t> sender;
    Held held;
    if (line >> sender.first >> sender.second >> held.newest.epoch >> held.newest.number) {
      line >> held.stored;  // earlier programs did not count
      (removal.index.empty() ? removal.before : removal.of_index)[sender] = held;
    }
  }
  std::error_code error;
  if (removal.index.empty() || std::filesystem::exists(path_of(removal.index), error))
    return {removal.before, {}, {}};
  return removal;
}

bool Store::write_removed(const Removal& removal) const {
  std::ostringstream text;
  auto write = [&](const HeldBySender& all) {
    for (const auto& [sender, held] : all)
      text << sender.first << ' ' << sender.second << ' ' << held.newest.epoch << ' ' << held.newest.number
           << ' ' << held.stored << '\n';
  };
  write(removal.before);
  if (!removal.index.empty()) {
    text << "of " << removal.index << '\n';
    write(removal.of_index);
  }
  return write_whole(folder_ + "/held", std::move(text).str(), 0600) == 0;
}

HeldBySender& Store::held_by_sender() {
  if (held_) return *held_;
  std::error_code unlisted;
  std::filesystem::directory_iterator listed(folder_, unlisted);
  if (unlisted && unlisted != std::errc::no_such_file_or_directory)
    throw SqliteError(SQLITE_CANTOPEN, folder_ + " cannot be listed: " + unlisted.message());
  Removal removal = read_removed();
  HeldBySender held = std::move(removal.before);
  add(held, removal.of_index);
  if (!removal.index.empty()) write_removed({held, {}, {}});  // before another index of that name is made
  for (const std::string& name : names()) {
    try {
      read_held(path_of(name), held);
    } catch (const SqliteError& e) {
      // A damaged one holds nothing; one that cannot be read now may hold everything.
      if (!is_damage(e)) throw SqliteError(e.code, "index " + name + ": " + e.what());
    }
  }
  return held_.emplace(std::move(held));
}

Result<Held> Store::held(const Sender& sender) {
  std::lock_guard lock(mutex_);
  try {
    const auto& all = held_by_sender();
    auto it = all.find({sender.spool, sender.destination});
    return it == all.end() ? Held{} : it->second;
  } catch (const SqliteError& e) {
    return Problem{e.what(), "", 0, 0};
  }
}

void Store::merge() {
  std::lock_guard lock(mutex_);
  if (unfinished_) complete_all();
  for (Open& o : open_) {
    if (!o.written) continue;
    o.written = false;
    try {
      o.file->merge(encoder_);
    } catch (const SqliteError&) {
      // Merging only tidies up; the next commit will report what is wrong with the file.
    }
  }
}

void Store::forget_caches() {
  std::lock_guard lock(mutex_);
  encoder_.forget_memory();
  for (Open& o : open_) o.file->forget_cache();
}

std::vector<std::string> Store::names() const {
  std::vector<std::string> all;
  std::error_code error;
  for (auto it = std::filesystem::directory_iterator(folder_, error);
       !error && it != std::filesystem::directory_iterator(); it.increment(error))
    if (it->path().extension() == ".index") all.push_back(it->path().stem().string());
  std::sort(all.begin(), all.end());
  return all;
}

std::vector<std::string> Store::missing() const {
  std::set<std::string> noted;
  {
    const std::lock_guard lock(roster_mutex_);
    noted = roster_.names();
  }
  std::vector<std::string> all;
  for (const std::string& name : noted) {
    struct stat info;
    // What cannot be asked about is not known to be gone.
    if (::stat(path_of(name).c_str(), &info) != 0 && errno == ENOENT) all.push_back(name);
  }
  return all;
}

std::vector<IndexInfo> Store::indexes() const {
  std::vector<IndexInfo> all;
  for (const std::string& name : names()) {
    IndexInfo info;
    try {
      info = read_index_info(path_of(name));
    } catch (const SqliteError&) {
      // Being made, or damaged: listed without events.
    }
    info.name = name;
    all.push_back(std::move(info));
  }
  return all;
}

std::vector<Removed> Store::removed() const {
  std::lock_guard lock(mutex_);
  return removed_from(folder_);
}

bool Store::remove(const std::string& index, const std::string& why) {
  std::lock_guard lock(mutex_);
  std::error_code error;
  if (!is_index_name(index)) return false;
  if (!std::filesystem::exists(path_of(index), error)) {
    const std::lock_guard roster_lock(roster_mutex_);
    return !error && roster_.names().count(index) != 0 &&
           note_removed(folder_, {index, why + "; its file was gone", 0, 0, system_now()}) &&
           roster_.remove(index);
  }
  if (unfinished_ && !complete_all()) return false;  // what it lists must be gone first
  Removal removal;
  try {
    held_by_sender();
    removal = read_removed();
    add(removal.before, removal.of_index);
    removal.of_index.clear();
    removal.index = index;
    read_held(path_of(index), removal.of_index);
  } catch (const SqliteError& e) {
    if (removal.index.empty() || !is_damage(e)) return false;  // not now
    // Damaged: nothing of it was counted when it was looked at first.
  }
  IndexInfo info;
  try {
    info = read_index_info(path_of(index));
  } catch (const SqliteError&) {
    // Damaged: nobody knows what is in it.
  }
  if (!note_removed(folder_, {index, why, info.events, info.bytes, system_now()}) || !write_removed(removal))
    return false;  // its agents would send all again
  std::erase_if(open_, [&](const Open& o) { return o.name == index; });
  {  // first: one that is there and not noted is noted again
    const std::lock_guard roster_lock(roster_mutex_);
    if (!roster_.remove(index)) return false;
  }
  const bool removed = std::filesystem::remove(path_of(index), error);
  for (const char* suffix : {"-wal", "-shm"}) std::filesystem::remove(path_of(index) + suffix, error);
  if (!removed) return false;
  add(removal.before, removal.of_index);
  write_removed({removal.before, {}, {}});
  return true;
}

std::optional<Store::Kept> Store::kept() {
  std::lock_guard lock(mutex_);
  Kept kept;
  try {
    held_by_sender();  // so that what was being removed is settled
    for (const auto& [sender, held] : read_removed().before) kept.stored += held.stored;
    kept.accounted = kept.stored;
    for (const std::string& name : names()) {
      const IndexInfo info = read_index_info(path_of(name));
      kept.stored += info.stored;
      kept.accounted += info.events + info.taken;
    }
  } catch (const SqliteError&) {
    return std::nullopt;
  }
  return kept;
}

namespace {
constexpr std::int64_t kPlausible = 24 * 3600 * kSecond;  // ahead of the clock

std::int64_t last_in(const IndexInfo& i) { return i.last > i.arrival + kPlausible ? i.arrival : i.last; }
}  // namespace

std::string Store::soon_gone(std::uint64_t most_bytes) const {
  constexpr std::int64_t kLately = 24 * 3600 * kSecond;
  std::vector<IndexInfo> all = indexes();
  std::uint64_t bytes = 0;
  for (const IndexInfo& info : all) bytes += info.bytes;
  if (most_bytes == 0 || all.size() < 2 || bytes < most_bytes / 10 * 9) return "";
  const auto older = [](const IndexInfo& a, const IndexInfo& b) { return last_in(a) < last_in(b); };
  const auto [oldest, newest] = std::minmax_element(all.begin(), all.end(), older);
  if (oldest->arrival < system_now() - kLately || newest->last - oldest->last < kLately) return "";
  return "the index " + oldest->name + ", to which events came as late as " +
         format_rfc3339(oldest->arrival) + ", is the next to go: the indexes have " + format_size(bytes) +
         ", and `keep.bytes` is " + format_size(most_bytes);
}

std::int64_t Store::newest_in(const IndexInfo& info) {
  return info.last > info.arrival + kPlausible ? info.arrival : std::max(info.last, info.arrival);
}

std::vector<Removed> Store::retain(std::int64_t oldest, std::uint64_t most_bytes) {
  std::vector<IndexInfo> all = indexes();
  auto by_last = [](const IndexInfo& a, const IndexInfo& b) { return last_in(a) < last_in(b); };
  std::sort(all.begin(), all.end(), by_last);
  std::uint64_t bytes = 0;
  for (const IndexInfo& info : all) bytes += info.bytes;
  std::vector<Removed> removed;
  for (const IndexInfo& info : all) {
    if (info.events == 0 && info.arrival == 0) continue;  // it is being made
    const bool old = oldest != 0 && newest_in(info) < oldest;
    const bool too_much = most_bytes != 0 && bytes > most_bytes && removed.size() + 1 < all.size();
    if (!old && !too_much) continue;
    const std::string why = old ? "its last event and its last arrival are older than `keep.age`"
                                : "all indexes together were larger than `keep.bytes`";
    if (!remove(info.name, why)) continue;
    bytes -= info.bytes;
    removed.push_back({info.name, why, info.events, info.bytes, 0});
  }
  return removed;
}

}  // namespace dingle
