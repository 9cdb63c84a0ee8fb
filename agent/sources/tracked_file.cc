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

constexpr std::uint64_t kRungBytes = 256;
constexpr std::uint64_t kRungDistance = 64 * 1024;  // between kept rungs, but for the newest
constexpr std::size_t kMostRungs = 8;

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
  w.u8(1);
  w.text(path);
  w.u64(stream);
  w.varint(base);
  w.varint(position);
  w.u8(skipping);
  w.varint(rungs.size());
  for (const Rung& r : rungs) {
    w.varint(r.position);
    w.u64(r.hash);
  }
  return out;
}

std::optional<FileCheckpoint> FileCheckpoint::decode(std::string_view bytes) {
  ByteReader r(bytes);
  FileCheckpoint c;
  if (r.u8() != 1) return std::nullopt;
  c.path = r.text();
  c.stream = r.u64();
  c.base = r.varint();
  c.position = r.varint();
  c.skipping = r.u8() != 0;
  for (std::size_t n = r.count(9); n-- && r.ok();) {
    Rung rung;
    rung.position = r.varint();
    rung.hash = r.u64();
    c.rungs.push_back(rung);
  }
  return r.ok() ? std::optional(c) : std::nullopt;
}

TrackedFile::~TrackedFile() { ::close(fd_); }

// Of up to 256 bytes that end at `position`; nothing if they cannot be read.
std::optional<std::uint64_t> TrackedFile::hash_before(std::uint64_t position) const {
  char bytes[kRungBytes];
  const std::uint64_t n = std::min(position, kRungBytes);
  if (::pread(fd_, bytes, n, static_cast<off_t>(position - n)) != static_cast<ssize_t>(n))
    return std::nullopt;
  return XXH64(bytes, n, 0);
}

bool TrackedFile::verify() {
  auto& rungs = checkpoint.rungs;
  if (checkpoint.position == 0) return true;
  if (!rungs.empty() && rungs.back().position == checkpoint.position &&
      hash_before(checkpoint.position) == rungs.back().hash)
    return true;
  while (!rungs.empty() && hash_before(rungs.back().position) != rungs.back().hash) rungs.pop_back();
  if (rungs.empty()) return false;
  // Some of what was read is gone and other bytes are there. Their positions in the stream go on upwards.
  checkpoint.base += checkpoint.position - rungs.back().position;
  checkpoint.position = rungs.back().position;
  checkpoint.skipping = false;
  return true;
}

void TrackedFile::advance(std::uint64_t position) {
  checkpoint.position = position;
  auto& rungs = checkpoint.rungs;
  auto hash = hash_before(position);
  if (!hash) return;  // truncated meanwhile: the next check sees it
  if (rungs.size() >= 2 && position - rungs[rungs.size() - 2].position < kRungDistance) rungs.pop_back();
  rungs.push_back({position, *hash});
  if (rungs.size() > kMostRungs) rungs.erase(rungs.begin() + 1);
}

std::uint64_t TrackedFile::size_now() const {
  struct stat info;
  return ::fstat(fd_, &info) == 0 ? static_cast<std::uint64_t>(info.st_size) : 0;
}

bool TrackedFile::agrees_with(const FileCheckpoint& kept) const {
  const std::uint64_t size = size_now();
  bool any = false;
  for (const Rung& rung : kept.rungs) {
    if (rung.position > size) break;
    if (hash_before(rung.position) != rung.hash) return false;
    any = true;
  }
  return any;
}

void TrackedFile::restart() {
  checkpoint.stream = new_stream();
  checkpoint.base = checkpoint.position = 0;
  checkpoint.skipping = false;
  checkpoint.rungs.clear();
}

}  // namespace dingle
