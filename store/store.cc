#include "store/store.h"

#include <sys/stat.h>

#include <algorithm>
#include <filesystem>

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
  std::string name(text.substr(0, kLongestIndexName));
  for (char& c : name)
    if (!is_name_byte(c)) c = '_';
  if (name.empty()) return "unnamed";
  if (name[0] == '.') name[0] = '_';
  return name;
}

Store::Store(std::string folder) : folder_(std::move(folder)) {}

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
  open_.push_front({index, std::move(file), false});
  while (open_.size() > kMostOpen) open_.pop_back();
  return *open_.front().file;
}

Store::Outcome Store::commit(const std::string& index, const Sender& sender,
                             std::span<const StoredEvent> events) {
  Outcome outcome;
  std::lock_guard lock(mutex_);
  try {
    IndexFile& file = open(index);
    auto committed = file.commit(sender, events, encoder_);
    open_.front().written = true;
    outcome.stored = committed.stored;
    outcome.known = committed.known;
    if (!committed.refused.empty()) outcome = {Outcome::Form::retry, 0, 0, committed.refused};
  } catch (const SqliteError& error) {
    outcome = {Outcome::Form::retry, 0, 0, "index " + index + ": " + error.what()};
    std::erase_if(open_, [&](const Open& o) { return o.name == index; });
  } catch (const std::filesystem::filesystem_error& error) {
    outcome = {Outcome::Form::retry, 0, 0, error.what()};
  }
  return outcome;
}

void Store::merge() {
  std::lock_guard lock(mutex_);
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

std::vector<std::string> Store::names() const {
  std::vector<std::string> all;
  std::error_code error;
  for (auto it = std::filesystem::directory_iterator(folder_, error);
       !error && it != std::filesystem::directory_iterator(); it.increment(error))
    if (it->path().extension() == ".index") all.push_back(it->path().stem().string());
  std::sort(all.begin(), all.end());
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

bool Store::remove(const std::string& index) {
  std::lock_guard lock(mutex_);
  std::erase_if(open_, [&](const Open& o) { return o.name == index; });
  std::error_code error;
  const bool there = is_index_name(index) && std::filesystem::remove(path_of(index), error);
  for (const char* suffix : {"-wal", "-shm"}) std::filesystem::remove(path_of(index) + suffix, error);
  return there;
}

std::vector<std::string> Store::retain(std::int64_t oldest, std::uint64_t most_bytes) {
  std::vector<IndexInfo> all = indexes();
  std::sort(all.begin(), all.end(), [](const IndexInfo& a, const IndexInfo& b) { return a.last < b.last; });
  std::uint64_t bytes = 0;
  for (const IndexInfo& info : all) bytes += info.bytes;
  std::vector<std::string> removed;
  for (const IndexInfo& info : all) {
    if (info.events == 0) continue;
    const bool old = oldest != 0 && info.last < oldest;
    const bool too_much = most_bytes != 0 && bytes > most_bytes && removed.size() + 1 < all.size();
    if (!old && !too_much) continue;
    if (remove(info.name)) removed.push_back(info.name), bytes -= info.bytes;
  }
  return removed;
}

}  // namespace dingle
