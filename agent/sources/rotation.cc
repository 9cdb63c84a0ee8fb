#include "agent/sources/rotation.h"

#include <fcntl.h>
#include <sys/stat.h>
#include <unistd.h>

#include <algorithm>
#include <cstring>
#include <map>
#include <tuple>
#include <utility>

#include "core/time/instant.h"

namespace dingle {
namespace {

constexpr int kChunksOfOlder = 64;
constexpr std::size_t kMostBefore = 32;     // that a file waits for, merely because they are older
constexpr std::size_t kStart = 32;          // bytes of a beginning by which files are found
constexpr std::size_t kMostCompared = 100;  // files of one beginning that a new one may be a copy of
constexpr std::size_t kLarge =
    200;  // files of a family; if more, they are compared by their beginnings first
constexpr std::int64_t kForgotten = 60'000'000'000;  // ns; who was quiet so long writes no more

std::string name_of(const TrackedFile& file) { return file.checkpoint.path; }

// Whether `file` ends as `original` goes on at that place: what a copy that is being made does.
bool holds_its_end(const TrackedFile& file, const TrackedFile& original) {
  const std::uint64_t size = file.size_now();
  if (size == 0 || size > original.size_now()) return false;
  char a[4096], b[4096];
  const std::uint64_t n = std::min<std::uint64_t>(size, sizeof a);
  const auto from = static_cast<off_t>(size - n);
  return ::pread(file.fd(), a, n, from) == static_cast<ssize_t>(n) &&
         ::pread(original.fd(), b, n, from) == static_cast<ssize_t>(n) && std::memcmp(a, b, n) == 0;
}

// Whether its first bytes are those.
bool begins_with(const TrackedFile& file, std::string_view first) {
  char bytes[kFirst];
  const ssize_t n = ::pread(file.fd(), bytes, first.size(), 0);
  return n >= 0 && first.starts_with(std::string_view(bytes, static_cast<std::size_t>(n)));
}

// Of a file that was seen to agree with another one while that was whole: whether it does with what was read of that. More may
// have been read than was copied; of a copy that is smaller than the lowest rung only its first bytes are known.
bool is_copy(const TrackedFile& file, const FileCheckpoint& lost, std::string_view first) {
  return file.agrees_with(lost) || (!lost.rungs.empty() && lost.rungs.front().position > file.size_now() &&
                                    file.size_now() != 0 && begins_with(file, first));
}

}  // namespace

TrackedFile* Rotation::find(const TrackedFile::Id& id) const {
  const auto it = files_.find(id);
  return it == files_.end() ? nullptr : it->second.get();
}

void Rotation::arrived(TrackedFile& file, TrackedFile* former) {
  file.appeared = true;
  if (former != nullptr) file.before.push_back({former->id(), true});
}

namespace {

void note_head(TrackedFile& file) {
  file.head.resize(kHead);
  const ssize_t n = ::pread(file.fd(), file.head.data(), kHead, 0);
  file.head.resize(n > 0 ? static_cast<std::size_t>(n) : 0);
}

// Under which the file's beginning is found.
std::string_view start_of(std::string_view head) { return head.substr(0, kStart); }

// By when they were written: what was read before, then by the last change. An empty file's own says nothing: it comes last.
// Of what cannot be told apart by that, the older one by birth, then the longer name, then who was renamed first (or before anybody watched).
using Age = RotationAge;
Age age_of(const TrackedFile& file) {
  struct stat info {};
  ::fstat(file.fd(), &info);
  return {!file.known,
          info.st_size == 0,
          info.st_mtim.tv_sec * kSecond + info.st_mtim.tv_nsec,
          file.born,
          file.beginning.order,
          -static_cast<std::ptrdiff_t>(file.checkpoint.path.size()),
          file.moved,
          file.id()};
}

// gate.log.1 beside gate.log: rotated away, by renaming or copying; not gate.log.10 beside gate.log.1. The name that the other
// one was seen under last may have gone to another file.
bool has_rotated_name(const TrackedFile& file, const TrackedFile& of) {
  const std::string &path = of.checkpoint.path, &longer = file.checkpoint.path;
  const auto is_digit = [](char c) { return c >= '0' && c <= '9'; };
  struct stat info;
  return longer.size() > path.size() && longer.starts_with(path) &&
         !(is_digit(path.back()) && is_digit(longer[path.size()])) && ::stat(path.c_str(), &info) == 0 &&
         info.st_ino == of.inode() && info.st_dev == of.device();
}

// Both were created by one path.
bool lost_its_path_to(const TrackedFile& file, const TrackedFile& other) {
  return file.beginning.order != 0 && file.beginning.order < other.beginning.order &&
         file.beginning.path == other.beginning.path;
}

// Whether it holds lines that were written before the other's.
bool is_older(const TrackedFile& file, const Age& age, const TrackedFile& than, const Age& its_age) {
  if (has_rotated_name(file, than) || lost_its_path_to(file, than)) return true;
  return !has_rotated_name(than, file) && !lost_its_path_to(than, file) && age < its_age;
}

std::int64_t modified(const Age& age) { return std::get<2>(age); }

}  // namespace

void Rotation::left(const TrackedFile& file) {
  cut_.erase(file.id());
  calls_.tell(name_of(file), "");
}

// One of the files before it: whether it is to be waited for.
bool Rotation::waits_for(TrackedFile& file, TrackedFile& other, bool renamed) {
  if (other.just_cut) return true;
  if (!other.compared && other.size_now() == 0) return false;  // and what comes meanwhile is not read unseen
  if (!other.compared) compare(other);
  if (!other.may_copy.empty()) {
    const bool of_this = std::count(other.may_copy.begin(), other.may_copy.end(), file.id()) != 0;
    // What is no copy after all may have come to stand before others. What is one waits for its original.
    return !waits_for_original(other) || !of_this;
  }
  bool more = true;
  for (int i = 0; more && i < kChunksOfOlder; ++i) more = calls_.read(other, UINT64_MAX);
  if (more) return true;
  const std::int64_t waited = clock_.steady() - file.grew_at;
  if (other.size_now() == other.checkpoint.position) return false;
  if (renamed && !other.closing) {
    other.closing = true;
    other.waiting_size = 0;
    calls_.read(other, UINT64_MAX);
    if (other.size_now() == other.checkpoint.position) return false;
  }
  if (!renamed && other.changed_at > file.grew_at && other.waiting_size == other.size_now())
    return false;  // it goes on by itself, and was read to its last whole line
  return waited < kLongestWait;
}

// Puts these before a file, the oldest first: each of them is read to its end before the next one.
void Rotation::place(std::span<const Member* const> older, const Member& younger) {
  std::vector<std::pair<Age, TrackedFile::Before>> by_age;
  for (const TrackedFile::Before& b : younger.file->before)
    if (const TrackedFile* file = find(b.id)) by_age.emplace_back(age_of(*file), b);
  for (const Member* m : older) {
    const auto is_it = [&](const auto& b) { return b.second.id == m->file->id(); };
    if (std::any_of(by_age.begin(), by_age.end(), is_it)) continue;
    // By the clock of their file system: this program's may be set meanwhile.
    if (modified(younger.age) / kSecond * kSecond - modified(m->age) / kSecond * kSecond > kForgotten)
      continue;
    by_age.push_back(
        {m->age, {m->file->id(), m->file->rotated || lost_its_path_to(*m->file, *younger.file)}});
  }
  std::sort(by_age.begin(), by_age.end(), [](const auto& a, const auto& b) { return a.first < b.first; });
  younger.file->before.clear();
  for (const auto& [age, b] : by_age) younger.file->before.push_back(b);
}

// Which of them were rotated away from another one's path.
void Rotation::note_rotated() {
  std::map<std::string_view, const TrackedFile*> by_path;
  for (const auto& [id, file] : files_) by_path[file->checkpoint.path] = file.get();
  for (const auto& [id, file] : files_) {
    const std::string_view path = file->checkpoint.path;
    for (std::size_t n = file->family.size(); n < path.size() && !file->rotated; ++n)
      if (const auto it = by_path.find(path.substr(0, n)); it != by_path.end())
        file->rotated = has_rotated_name(*file, *it->second);
  }
}

// Whom a member may follow by its name, however old they are: who was rotated away from its path, and who had the path before.
std::vector<std::vector<std::size_t>> Rotation::relatives(const std::vector<Member>& members) {
  std::vector<std::vector<std::size_t>> all(members.size());
  std::map<std::string_view, std::size_t> by_path;
  std::map<std::string_view, std::vector<std::size_t>> by_beginning;
  for (std::size_t i = 0; i < members.size(); ++i) {
    by_path[members[i].file->checkpoint.path] = i;
    if (members[i].file->beginning.order != 0) by_beginning[members[i].file->beginning.path].push_back(i);
  }
  for (std::size_t i = 0; i < members.size(); ++i) {
    const std::string_view path = members[i].file->checkpoint.path;
    for (std::size_t n = members[i].file->family.size(); n < path.size(); ++n)
      if (const auto it = by_path.find(path.substr(0, n)); it != by_path.end()) all[it->second].push_back(i);
  }
  for (auto& [path, list] : by_beginning) {
    std::sort(list.begin(), list.end(), [&](std::size_t a, std::size_t b) {
      return members[a].file->beginning.order < members[b].file->beginning.order;
    });
    for (std::size_t k = 1; k < list.size(); ++k)
      all[list[k]].insert(all[list[k]].end(),
                          list.begin() + static_cast<std::ptrdiff_t>(k - std::min(k, kMostBefore)),
                          list.begin() + static_cast<std::ptrdiff_t>(k));
  }
  return all;
}

// Of a family that has new members: puts before each that appeared whom it follows, if one of the two is new. Not more than
// the youngest of those that are merely older: thousands of files with one stem are no rotation.
void Rotation::place(std::vector<Member>& members) {
  std::sort(members.begin(), members.end(), [](const Member& a, const Member& b) { return a.age < b.age; });
  const auto related = relatives(members);
  for (std::size_t j = 0; j < members.size(); ++j) {
    const Member& member = members[j];
    if (!member.file->appeared) continue;
    std::vector<const Member*> older;
    const auto consider = [&](std::size_t i) {
      const Member& other = members[i];
      if (i != j && (other.is_new || member.is_new) &&
          is_older(*other.file, other.age, *member.file, member.age))
        older.push_back(&other);
    };
    for (std::size_t i = j - std::min(j, kMostBefore); i < j; ++i) consider(i);
    for (const std::size_t i : related[j]) consider(i);
    if (!older.empty()) place(older, member);
  }
}

void Rotation::place_new() {
  std::map<std::string_view, std::vector<Member>> families;
  const auto is_new = [](const TrackedFile& file) { return file.appeared && !file.placed; };
  for (const auto& [id, file] : files_)
    if (is_new(*file)) families[file->family];
  if (families.empty()) return;
  note_rotated();
  for (const auto& [id, file] : files_)
    if (const auto family = families.find(file->family); family != families.end())
      family->second.push_back({file.get(), age_of(*file), is_new(*file)});
  for (auto& [family, members] : families) {
    place(members);
    for (const Member& m : members) m.file->placed |= m.is_new;
  }
}

// The beginnings of what is in large families: each compared with each, ten thousand files would be read fifty million times.
void Rotation::note_large() {
  std::map<std::string_view, std::size_t> members;
  for (const auto& [id, file] : files_) ++members[file->family];
  large_.clear();  // what is gone since must not stay
  for (const auto& [family, n] : members)
    if (n > kLarge) large_.try_emplace(std::string(family));
  if (large_.empty()) return;
  for (const auto& [id, file] : files_) {
    const auto family = large_.find(file->family);
    if (family == large_.end()) continue;
    if (file->head.empty() && file->size_now() != 0) note_head(*file);
    if (!file->head.empty()) family->second[std::string(start_of(file->head))].insert(id);
  }
}

// Those of its family that the file may begin as. Of a large one only those that are known to have begun so, and that were cut.
std::vector<TrackedFile*> Rotation::may_have_been_copied(TrackedFile& file) {
  std::vector<TrackedFile*> all;
  const auto family = large_.find(file.family);
  if (family == large_.end()) {
    for (const auto& [id, other] : files_) all.push_back(other.get());
    return all;
  }
  note_head(file);
  std::set<TrackedFile::Id> found = cut_;
  for (std::size_t n = 1; n <= std::min(kStart, file.head.size()); ++n)
    if (const auto with = family->second.find(file.head.substr(0, n)); with != family->second.end())
      found.insert(with->second.begin(), with->second.end());
  family->second[std::string(start_of(file.head))].insert(file.id());
  for (const TrackedFile::Id& id : found) {
    TrackedFile* other = find(id);
    if (other == nullptr || other == &file || (!other->lost && !file.head.starts_with(other->head))) continue;
    if (all.size() == kMostCompared) {
      calls_.tell(file.family + "*",
                  "more than " + std::to_string(kMostCompared) +
                      " files begin alike; whether a new one is a copy of one of the rest is not looked at");
      break;
    }
    all.push_back(other);
  }
  return all;
}

void Rotation::looked() {
  place_new();
  note_large();
  for (const auto& [id, file] : files_)
    if (!file->compared && file->size_now() != 0) compare(*file);
  std::erase_if(cut_, [&](const TrackedFile::Id& id) { return find(id) == nullptr || !find(id)->lost; });
  copies_ = std::any_of(files_.begin(), files_.end(),
                        [](const auto& file) { return !file.second->may_copy.empty(); });
  for (const auto& [id, file] : files_)
    if (std::exchange(file->just_cut, false)) file->lost_at = clock_.steady();
}

std::optional<std::uint64_t> Rotation::turn_of(TrackedFile& file) {
  if (file.just_cut) return std::nullopt;
  const std::uint64_t size = file.size_now();
  if (size == file.checkpoint.position) return size;  // what comes meanwhile may have to wait
  if (!file.compared && size != 0) compare(file);
  if (waits_for_original(file)) return std::nullopt;
  if (file.before.empty()) return UINT64_MAX;
  const std::int64_t now = clock_.steady();
  if (file.grew_at == 0) file.grew_at = now;
  const std::uint64_t stream = file.checkpoint.stream;
  for (std::size_t i = 0; i < file.before.size();) {
    TrackedFile* other = find(file.before[i].id);
    // What was found out of it since it was put there counts as well.
    const bool renamed =
        file.before[i].renamed || (other != nullptr && (other->rotated || lost_its_path_to(*other, file)));
    if (other != nullptr && waits_for(file, *other, renamed)) return std::nullopt;
    if (file.checkpoint.stream != stream) return std::nullopt;  // it turned out to be the other one's copy
    const bool late = other != nullptr && other->changed_at > file.grew_at + kLongestWait;
    const bool stays = other != nullptr && renamed && !late && now - other->changed_at < kForgotten;
    if (other != nullptr && renamed &&
        (late || (other->size_now() != other->checkpoint.position && now - file.grew_at >= kLongestWait)))
      calls_.tell(name_of(*other), "is still written to, though " + name_of(file) +
                                       " took its place; lines of the two may not come in their order");
    if (stays)
      ++i;
    else
      file.before.erase(file.before.begin() + static_cast<std::ptrdiff_t>(i));
  }
  return size;  // what was there before the others were looked at
}

// Whether it may be a copy of another file of its family.
void Rotation::compare(TrackedFile& file) {
  file.compared = true;
  if (file.checkpoint.position != 0) return;  // it was begun already
  for (TrackedFile* other : may_have_been_copied(file)) {
    if (other == &file || other->family != file.family) continue;
    if (file.born != 0 && file.born < other->born) continue;  // a copy is younger
    const bool late = !other->just_cut && clock_.steady() - other->lost_at >= kLongestWait;
    if (other->lost && !late && file.agrees_with(*other->lost)) return adopt(file, *other);
    // In this order, also within: it may be cut at any of these moments, when the copy is whole. Or it was cut before, and
    // what is known of it is not what was copied.
    const bool whole = file.appeared && holds_its_end(file, *other) &&
                       (file.may_agree_with(other->checkpoint) || !other->still_agrees());
    if (!whole && (other->still_agrees() || !file.agrees_with(other->detailed()))) continue;
    file.may_copy.push_back(other->id());
    copies_ = true;
    file.held_since = clock_.steady();
  }
}

bool Rotation::waits_for_original(TrackedFile& file) {
  bool waits = false;
  for (std::size_t i = 0; i < file.may_copy.size();) {
    TrackedFile* original = find(file.may_copy[i]);
    if (original != nullptr && original->lost && is_copy(file, *original->lost, original->lost_first)) {
      adopt(file, *original);
      return false;
    }
    // In this order: it may be cut in between.
    const bool whole = original != nullptr && holds_its_end(file, *original);
    const bool cut = !whole && original != nullptr && !original->still_agrees() &&
                     is_copy(file, original->detailed(), original->first);
    if (cut) {
      original->seen_modified = -1;  // however long ago that was: it is found out now
      calls_.read(*original, 0);
    }
    if (cut || (whole && clock_.steady() - file.held_since < kLongestWait)) {
      waits = !file.may_copy.empty();
      ++i;
      continue;
    }
    if (whole)
      calls_.tell(name_of(file),
                  "holds what " + name_of(*original) +
                      " holds, and is read as another file: a copy among the paths is read twice");
    else if (original != nullptr && original->checkpoint.position == 0)
      goes_before(file, *original);  // cut before any of it was read: only the copy has those lines
    file.may_copy.erase(file.may_copy.begin() + static_cast<std::ptrdiff_t>(i));
  }
  return waits;
}

void Rotation::goes_before(TrackedFile& file, TrackedFile& other) {
  const Member older{&file, age_of(file), false}, younger{&other, age_of(other), false};
  const Member* const one = &older;
  place({&one, 1}, younger);
}

bool Rotation::may_begin(TrackedFile& file, std::string_view read) {
  bool may = true;
  if (!copies_) return true;
  for (const auto& [id, copy] : files_) {
    if (std::count(copy->may_copy.begin(), copy->may_copy.end(), file.id()) == 0) continue;
    std::string bytes(std::min<std::uint64_t>(read.size(), copy->size_now()), '\0');
    if (::pread(copy->fd(), bytes.data(), bytes.size(), 0) == static_cast<ssize_t>(bytes.size()) &&
        read.starts_with(bytes))
      continue;
    std::erase(copy->may_copy, file.id());
    goes_before(*copy, file);
    may = false;
  }
  return may;
}

void Rotation::truncated(TrackedFile& file, FileCheckpoint before) {
  file.lost = std::move(before);
  file.lost_first = std::exchange(file.first, "");
  file.lost_at = clock_.steady();
  file.just_cut = true;
  cut_.insert(file.id());
  for (const auto& [id, other] : files_)
    if (std::count(other->may_copy.begin(), other->may_copy.end(), file.id()) != 0 &&
        is_copy(*other, *file.lost, file.lost_first))
      return adopt(*other, file);
}

// The copy goes on where the original was; the original begins anew behind it.
void Rotation::adopt(TrackedFile& copy, TrackedFile& original) {
  const std::string path = copy.checkpoint.path;
  const std::uint64_t size = copy.size_now();
  copy.checkpoint = *std::exchange(original.lost, std::nullopt);
  copy.first = std::exchange(original.lost_first, "");
  copy.checkpoint.path = path;
  auto& rungs = copy.checkpoint.rungs;
  if (rungs.size() > kMostRungs)
    rungs.erase(rungs.begin(), rungs.end() - static_cast<std::ptrdiff_t>(kMostRungs));
  if (size < copy.checkpoint.position) {  // what came behind the copy was read from the original
    for (std::vector<Rung>* all : {&copy.checkpoint.rungs, &copy.checkpoint.growth})
      std::erase_if(*all, [&](const Rung& r) { return r.position > size; });
    copy.advance(size);
  }
  copy.known = true;
  copy.waiting_size = 0;
  copy.may_copy.clear();
  std::erase_if(copy.before, [&](const auto& b) { return b.id == original.id(); });
  std::erase_if(original.before, [&](const auto& b) { return b.id == copy.id(); });
  original.before.push_back({copy.id(), true});
  original.grew_at = 0;
  calls_.keep(copy, original);
}

}  // namespace dingle
