#include "agent/sources/tracked_file.h"

#include <fcntl.h>
#include <sys/stat.h>
#include <unistd.h>
#include <xxhash.h>

#include <algorithm>
#include <random>

#include "core/bytes.h"

namespace dingle {
namespace {

constexpr std::uint64_t kRungDistance = 64 * 1024;  // between kept rungs, but for the newest ones
constexpr std::size_t kNewestRungs = 4;

}  // namespace

std::uint64_t new_stream() {
  thread_local std::mt19937_64 random{(static_cast<std::uint64_t>(std::random_device{}()) << 32) ^
                                      std::random_device{}()};
  const std::uint64_t n = random();
  return n == 0 ? 1 : n;
}

std::int64_t birth_of(int fd) {
  struct statx info {};
  if (::statx(fd, "", AT_EMPTY_PATH, STATX_BTIME, &info) != 0 || !(info.stx_mask & STATX_BTIME)) return 0;
  return info.stx_btime.tv_sec * 1'000'000'000 + info.stx_btime.tv_nsec;
}

std::uint64_t stream_of_file(int fd, std::uint64_t spool, std::string_view source) {
  struct statx info {};
  if (::statx(fd, "", AT_EMPTY_PATH, STATX_INO | STATX_BTIME, &info) != 0 || !(info.stx_mask & STATX_BTIME) ||
      info.stx_btime.tv_sec == 0)
    return new_stream();
  const std::uint64_t birth[] = {spool, std::uint64_t{info.stx_dev_major} << 32 | info.stx_dev_minor,
                                 info.stx_ino, static_cast<std::uint64_t>(info.stx_btime.tv_sec),
                                 info.stx_btime.tv_nsec};
  const std::uint64_t n =
      XXH3_64bits_withSeed(birth, sizeof birth, XXH3_64bits(source.data(), source.size()));
  return n == 0 ? 1 : n;
}

std::string FileCheckpoint::encode() const {
  std::string out;
  ByteWriter w(out);
  w.u8(2);
  w.text(path);
  w.u64(stream);
  w.varint(base);
  w.varint(position);
  w.varint(begun);
  w.u8(skipping);
  for (const std::vector<Rung>* all : {&rungs, &growth}) {
    w.varint(all->size());
    for (const Rung& r : *all) {
      w.varint(r.position);
      w.u64(r.hash);
    }
  }
  return out;
}

std::optional<FileCheckpoint> FileCheckpoint::decode(std::string_view bytes) {
  ByteReader r(bytes);
  FileCheckpoint c;
  const std::uint8_t version = r.u8();
  if (version != 1 && version != 2) return std::nullopt;
  c.path = r.text();
  c.stream = r.u64();
  c.base = r.varint();
  c.position = r.varint();
  if (version == 2) c.begun = r.varint();
  c.skipping = r.u8() != 0;
  for (std::vector<Rung>* all : {&c.rungs, &c.growth}) {
    if (all == &c.growth && version == 1) break;
    for (std::size_t n = r.count(9); n-- && r.ok();) {
      Rung rung;
      rung.position = r.varint();
      rung.hash = r.u64();
      all->push_back(rung);
    }
  }
  return r.ok() ? std::optional(c) : std::nullopt;
}

std::vector<Rung> FileCheckpoint::all_rungs() const {
  std::vector<Rung> all(rungs);
  all.insert(all.end(), growth.begin(), growth.end());
  std::ranges::sort(all, {}, &Rung::position);
  const auto same = [](const Rung& x, const Rung& y) { return x.position == y.position; };
  all.erase(std::unique(all.begin(), all.end(), same), all.end());
  return all;
}

TrackedFile::~TrackedFile() { ::close(fd_); }

// Of up to 256 bytes that end at `position`, as they are in the file; nothing if they cannot be read.
std::optional<std::uint64_t> TrackedFile::hash_before(std::uint64_t position, std::string* keep) const {
  char bytes[kRungBytes];
  const std::uint64_t n = std::min(position, kRungBytes);
  const ssize_t read = read_at(position - n, bytes, n);
  look_failed_ = look_failed_ || read < 0;
  if (read != static_cast<ssize_t>(n)) return std::nullopt;
  if (keep != nullptr) keep->assign(bytes, n);
  return rung_hash({bytes, n});
}

// The same as they were when they were read: `read` begins at the place, `tail_` ends there.
std::optional<std::uint64_t> TrackedFile::hash_read(std::uint64_t position, std::string_view read) const {
  const std::uint64_t n = std::min(position, kRungBytes), of_read = position - checkpoint.position;
  if (of_read > read.size()) return hash_before(position);
  if (of_read >= n) return rung_hash(read.substr(of_read - n, n));
  if (tail_.size() < n - of_read) return hash_before(position);
  char bytes[kRungBytes];
  const std::uint64_t of_tail = n - of_read;
  std::copy_n(tail_.end() - static_cast<std::ptrdiff_t>(of_tail), of_tail, bytes);
  std::copy_n(read.data(), of_read, bytes + of_tail);
  return rung_hash({bytes, n});
}

bool TrackedFile::holds_place() const {
  const auto& rungs = checkpoint.rungs;
  return checkpoint.position == 0 || rungs.empty() || rungs.back().position != checkpoint.position ||
         hash_before(checkpoint.position) == rungs.back().hash;
}

TrackedFile::Holds TrackedFile::verify(FileCheckpoint* as_known) {
  auto& rungs = checkpoint.rungs;
  look_failed_ = false;
  if (checkpoint.position == 0) return Holds::yes;
  if (!rungs.empty() && rungs.back().position == checkpoint.position &&
      hash_before(checkpoint.position, &tail_) == rungs.back().hash)
    return Holds::yes;
  std::size_t holding = rungs.size();
  while (holding != 0 && !look_failed_ &&
         hash_before(rungs[holding - 1].position, &tail_) != rungs[holding - 1].hash)
    --holding;
  if (look_failed_) return Holds::unknown;
  if (as_known != nullptr) *as_known = detailed();
  rungs.resize(holding);
  if (rungs.empty()) return Holds::no;
  // Some of what was read is gone and other bytes are there. Their positions in the stream go on upwards.
  checkpoint.base += checkpoint.position - rungs.back().position;
  checkpoint.position = rungs.back().position;
  std::erase_if(checkpoint.growth, [&](const Rung& r) { return r.position > checkpoint.position; });
  checkpoint.skipping = false;
  return Holds::yes;
}

void TrackedFile::advance(std::uint64_t position, std::string_view read) {
  constexpr std::uint64_t kMostParts = 16, kSmallestPart = 1024;
  constexpr std::size_t kMostFine = 4 * kMostParts;
  const std::uint64_t more = position > checkpoint.position ? position - checkpoint.position : 0;
  const std::uint64_t parts = std::min(kMostParts, 1 + more / kSmallestPart);
  for (std::uint64_t part = 1; more != 0 && part <= parts; ++part) {
    const std::uint64_t at = checkpoint.position + more * part / parts;
    if (const auto hash = hash_read(at, read); hash && at != 0) fine_.push_back({at, *hash});
  }
  if (fine_.size() > kMostFine)
    fine_.erase(fine_.begin(), fine_.end() - static_cast<std::ptrdiff_t>(kMostFine));
  auto& growth = checkpoint.growth;
  for (std::uint64_t at = growth.empty() ? kFirstGrowth : kGrowth * growth.back().position;
       more != 0 && at <= position; at *= kGrowth) {
    const auto hash = at > checkpoint.position ? hash_read(at, read) : hash_before(at);
    if (!hash) break;
    growth.push_back({at, *hash});
  }
  const auto hash = position > checkpoint.position ? hash_read(position, read) : hash_before(position);
  tail_.append(read.substr(read.size() - std::min(read.size(), kRungBytes)));
  if (position - checkpoint.position != read.size()) tail_.clear();
  tail_.erase(0, tail_.size() - std::min(tail_.size(), kRungBytes));
  checkpoint.position = position;
  auto& rungs = checkpoint.rungs;
  if (!hash) return;  // truncated meanwhile: the next check sees it
  rungs.push_back({position, *hash});
  // Of those behind the newest ones, some at a distance; the first one stays.
  if (const std::size_t n = rungs.size(); n > kNewestRungs + 1) {
    const std::size_t last = n - kNewestRungs - 1;
    if (rungs[last].position - rungs[last - 1].position < kRungDistance && last != 1)
      rungs.erase(rungs.begin() + static_cast<std::ptrdiff_t>(last));
    else if (n > kMostRungs)
      rungs.erase(rungs.begin() + 1);
  }
}

std::uint64_t TrackedFile::size_now() const {
  struct stat info;
  return ::fstat(fd_, &info) == 0 ? static_cast<std::uint64_t>(info.st_size) : 0;
}

std::optional<std::uint64_t> TrackedFile::agreement(const FileCheckpoint& kept, std::uint64_t size) const {
  std::uint64_t highest = 0;
  for (const Rung& rung : kept.rungs) {
    if (rung.position > size) break;
    if (hash_before(rung.position) != rung.hash) return std::nullopt;
    highest = rung.position;
  }
  return highest;
}

bool TrackedFile::may_agree_with(const FileCheckpoint& kept) const {
  return agreement(kept, size_now()).has_value();
}

bool TrackedFile::agrees_with(const FileCheckpoint& kept) const {
  const std::uint64_t size = size_now(), highest = agreement(kept, size).value_or(0);
  // Two files may begin alike.
  return highest != 0 && (size >= kept.position || size - highest <= std::max<std::uint64_t>(4096, size / 4));
}

FileCheckpoint TrackedFile::detailed() const {
  FileCheckpoint all = checkpoint;
  all.rungs.insert(all.rungs.end(), fine_.begin(), fine_.end());
  auto lower = [](const Rung& a, const Rung& b) { return a.position < b.position; };
  std::sort(all.rungs.begin(), all.rungs.end(), lower);
  auto same = [](const Rung& a, const Rung& b) { return a.position == b.position; };
  all.rungs.erase(std::unique(all.rungs.begin(), all.rungs.end(), same), all.rungs.end());
  return all;
}

void TrackedFile::restart() {
  checkpoint.stream = new_stream();
  checkpoint.base = checkpoint.position = checkpoint.begun = 0;
  checkpoint.skipping = false;
  checkpoint.rungs.clear();
  checkpoint.growth.clear();
  fine_.clear();
  tail_.clear();
  head.clear();
}

}  // namespace dingle
