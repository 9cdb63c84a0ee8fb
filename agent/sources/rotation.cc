#include "agent/sources/rotation.h"

#include <fcntl.h>
#include <sys/stat.h>
#include <unistd.h>

#include <algorithm>
#include <cstring>
#include <map>
#include <tuple>

#include "core/time/instant.h"

namespace dingle {
namespace {

constexpr int kChunksInARow = 64;
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

// Of a file that was seen to agree with another one while that was whole: whether it does with what was read of that. More may
// have been read than was copied.
bool is_copy(const TrackedFile& file, const FileCheckpoint& lost) {
  return file.agrees_with(lost) ||
         (!lost.rungs.empty() && lost.rungs.front().position > file.size_now() && file.size_now() != 0);
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

// By when they were written: what was read before, then by the last change. An empty file's own says nothing: it comes last.
// Of what cannot be told apart by that, the older one by birth, then the longer name.
using Age =
    std::tuple<bool, bool, std::int64_t, std::int64_t, std::uint64_t, std::ptrdiff_t, TrackedFile::Id>;
Age age_of(const TrackedFile& file) {
  struct stat info {};
  ::fstat(file.fd(), &info);
  return {!file.known, info.st_size == 0,    info.st_mtim.tv_sec * kSecond + info.st_mtim.tv_nsec,
          file.born,   file.beginning.order, -static_cast<std::ptrdiff_t>(file.checkpoint.path.size()),
          file.id()};
}

// gate.log.1 beside gate.log: rotated away, by renaming or copying. The name that the other one was seen under last may have
// gone to another file.
bool has_rotated_name(const TrackedFile& file, const TrackedFile& of) {
  const std::string& path = of.checkpoint.path;
  struct stat info;
  return file.checkpoint.path != path && file.checkpoint.path.starts_with(path) &&
         ::stat(path.c_str(), &info) == 0 && info.st_ino == of.inode() && info.st_dev == of.device();
}

// Both were created by one path.
bool lost_its_path_to(const TrackedFile& file, const TrackedFile& other) {
  return file.beginning.order != 0 && file.beginning.order < other.beginning.order &&
         file.beginning.path == other.beginning.path;
}

// Whether it holds lines that were written before the other's.
bool is_older(const TrackedFile& file, const TrackedFile& than) {
  if (has_rotated_name(file, than) || lost_its_path_to(file, than)) return true;
  return !has_rotated_name(than, file) && !lost_its_path_to(than, file) && age_of(file) < age_of(than);
}

}  // namespace

void Rotation::left(const TrackedFile& file) { calls_.tell(name_of(file), ""); }

// One of the files before it: whether it is to be waited for.
bool Rotation::waits_for(TrackedFile& file, TrackedFile& other, bool renamed) {
  if (other.just_cut) return true;
  if (!other.compared && other.size_now() != 0) compare(other);
  if (other.may_copy) return false;  // it waits itself
  bool more = true;
  for (int i = 0; more && i < kChunksInARow; ++i) more = calls_.read(other, UINT64_MAX);
  if (more) return true;
  const std::int64_t waited = calls_.now() - file.grew_at;
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

void Rotation::place(const TrackedFile& older, TrackedFile& younger) {
  for (const TrackedFile::Before& b : younger.before)
    if (b.id == older.id()) return;
  struct stat info;
  if (::fstat(older.fd(), &info) != 0 || calls_.now() - info.st_mtim.tv_sec * kSecond > kForgotten) return;
  younger.before.push_back({older.id(), older.rotated || lost_its_path_to(older, younger)});
  // The oldest first: each of them is read to its end before the next one.
  std::vector<std::pair<Age, TrackedFile::Before>> by_age;
  for (const TrackedFile::Before& b : younger.before)
    if (const TrackedFile* file = find(b.id)) by_age.emplace_back(age_of(*file), b);
  std::sort(by_age.begin(), by_age.end(), [](const auto& a, const auto& b) { return a.first < b.first; });
  younger.before.clear();
  for (const auto& [age, b] : by_age) younger.before.push_back(b);
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

void Rotation::looked() {
  const auto is_new = [](const auto& file) { return file.second->appeared && !file.second->placed; };
  if (std::any_of(files_.begin(), files_.end(), is_new)) note_rotated();
  for (const auto& [id, file] : files_) {
    if (!file->appeared || file->placed) continue;
    file->placed = true;
    for (const auto& [other_id, other] : files_) {
      if (other == file || other->family != file->family) continue;
      if (is_older(*other, *file))
        place(*other, *file);
      else if (other->appeared)  // it was found first
        place(*file, *other);
    }
  }
  for (const auto& [id, file] : files_)
    if (!file->compared && file->size_now() != 0) compare(*file);
  for (const auto& [id, file] : files_) file->just_cut = false;
}

std::optional<std::uint64_t> Rotation::turn_of(TrackedFile& file) {
  if (file.just_cut) return std::nullopt;
  const std::uint64_t size = file.size_now();
  if (size == file.checkpoint.position) return size;  // what comes meanwhile may have to wait
  if (!file.compared && size != 0) compare(file);
  if (file.may_copy && waits_for_original(file)) return std::nullopt;
  if (file.before.empty()) return UINT64_MAX;
  const std::int64_t now = calls_.now();
  if (file.grew_at == 0) file.grew_at = now;
  const std::uint64_t stream = file.checkpoint.stream;
  for (std::size_t i = 0; i < file.before.size();) {
    TrackedFile* other = find(file.before[i].id);
    if (other != nullptr && waits_for(file, *other, file.before[i].renamed)) return std::nullopt;
    if (file.checkpoint.stream != stream) return std::nullopt;  // it turned out to be the other one's copy
    const bool late = other != nullptr && other->changed_at > file.grew_at + kLongestWait;
    const bool stays =
        other != nullptr && file.before[i].renamed && !late && now - other->changed_at < kForgotten;
    if (other != nullptr && file.before[i].renamed &&
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
  for (const auto& [id, other] : files_) {
    if (other.get() == &file || other->family != file.family) continue;
    if (file.born != 0 && file.born < other->born) continue;  // a copy is younger
    if (other->lost && calls_.now() - other->lost_at < kLongestWait && file.agrees_with(*other->lost))
      return adopt(file, *other);
    const bool cut = file.agrees_with(other->detailed()) && !other->still_agrees();
    if (cut || (file.appeared && holds_its_end(file, *other))) {
      file.may_copy = id;
      file.held_since = calls_.now();
    }
  }
}

bool Rotation::waits_for_original(TrackedFile& file) {
  TrackedFile* original = find(*file.may_copy);
  const bool cut = original != nullptr && original->lost.has_value();
  if (cut && is_copy(file, *original->lost)) {
    adopt(file, *original);
    return false;
  }
  // In this order: it may be cut in between.
  const bool whole = original != nullptr && holds_its_end(file, *original);
  const bool alike =
      whole || (original != nullptr && !original->still_agrees() && is_copy(file, original->detailed()));
  if (alike && calls_.now() - file.held_since < kLongestWait) return true;
  if (alike)
    calls_.tell(name_of(file),
                "holds what " + name_of(*original) +
                    " holds, and is read as another file: a copy among the paths is read twice");
  file.may_copy.reset();
  return false;
}

bool Rotation::may_begin(TrackedFile& file, std::string_view read) {
  bool may = true;
  for (const auto& [id, copy] : files_) {
    if (copy->may_copy != file.id()) continue;
    std::string bytes(std::min<std::uint64_t>(read.size(), copy->size_now()), '\0');
    if (::pread(copy->fd(), bytes.data(), bytes.size(), 0) == static_cast<ssize_t>(bytes.size()) &&
        read.starts_with(bytes))
      continue;
    copy->may_copy.reset();
    place(*copy, file);
    may = false;
  }
  return may;
}

void Rotation::truncated(TrackedFile& file, FileCheckpoint before) {
  file.lost = std::move(before);
  file.lost_at = calls_.now();
  file.just_cut = true;
  for (const auto& [id, other] : files_)
    if (other->may_copy == file.id() && is_copy(*other, *file.lost)) return adopt(*other, file);
}

// The copy goes on where the original was; the original begins anew behind it.
void Rotation::adopt(TrackedFile& copy, TrackedFile& original) {
  const std::string path = copy.checkpoint.path;
  const std::uint64_t size = copy.size_now();
  copy.checkpoint = *std::exchange(original.lost, std::nullopt);
  copy.checkpoint.path = path;
  auto& rungs = copy.checkpoint.rungs;
  if (rungs.size() > kMostRungs)
    rungs.erase(rungs.begin(), rungs.end() - static_cast<std::ptrdiff_t>(kMostRungs));
  if (size < copy.checkpoint.position) {  // what came behind the copy was read from the original
    std::erase_if(copy.checkpoint.rungs, [&](const Rung& r) { return r.position > size; });
    copy.advance(size);
  }
  copy.known = true;
  copy.waiting_size = 0;
  copy.may_copy.reset();
  std::erase_if(copy.before, [&](const auto& b) { return b.id == original.id(); });
  original.before.push_back({copy.id(), true});
  original.grew_at = 0;
  calls_.keep(copy, original);
}

}  // namespace dingle
