#include "agent/sources/file_reader.h"

#include <simdjson.h>
#include <sys/stat.h>
#include <unistd.h>

#include <algorithm>
#include <cstring>

#include "core/time/instant.h"

namespace dingle {
namespace {
constexpr std::size_t kChunk = LineBuffer::kUsual;
constexpr std::int64_t kCoarseTime = kSecond / 10;  // two changes within that may have one time of change
constexpr std::string_view kByteOrderMark = "\xEF\xBB\xBF";  // of UTF-8; says nothing
}  // namespace

FileReader::FileReader(const SourceMaking& m, const Clock& clock, SplitSettings split, Calls calls)
    : name_(m.settings.name),
      unfinished_after_(m.settings.options.number("unfinished_after")),
      join_wait_(m.settings.options.section("join").number("wait")),
      clock_(clock),
      intake_(m.intake),
      counters_(m.intake.spool(), m.settings.name),
      split_(std::move(split)),
      calls_(std::move(calls)),
      gathering_(m.intake, clock) {}

// What a program that was cut short writes behind: bytes that were never written. Nothing is in them. True if some were
// passed over.
bool FileReader::skip_hole(TrackedFile& file, std::string_view chunk) {
  if (chunk[0] != '\0' || file.checkpoint.skipping) return false;
  const std::uint64_t from = file.checkpoint.position;
  char before = '\0';
  if (from != 0 && (file.read_at(from - 1, &before, 1) != 1 || before != '\0')) return false;
  std::uint64_t to = from + std::min(chunk.find_first_not_of('\0'), chunk.size());
  if (to == from + chunk.size())
    if (const off_t data = ::lseek(file.fd(), static_cast<off_t>(to), SEEK_DATA); data > 0)
      to = static_cast<std::uint64_t>(data);
  file.advance(to, chunk.substr(0, to - from));
  hand_in({{{key(file), file.checkpoint.encode(), false}},
           {{counters_.id("hole_bytes"), static_cast<std::int64_t>(to - from)}}});
  return true;
}

void FileReader::hand_in(Changes changes) {
  SourceBatch batch;
  batch.source = name_;
  batch.changes = std::move(changes);
  gathering_.add(std::move(batch));
}

void FileReader::cannot_read(TrackedFile& file, int error) {
  file.unreadable = true;
  intake_.problems().set("source " + name_ + ": " + file.checkpoint.path,
                         std::string("cannot be read: ") + std::strerror(error));
}

bool FileReader::read(TrackedFile& file, std::uint64_t limit) {
  if (refused()) return false;
  struct stat info;
  if (::fstat(file.fd(), &info) != 0) return false;
  const auto size = static_cast<std::uint64_t>(info.st_size);
  const std::int64_t now = clock_.steady();
  // The time of change tells of a file that was written anew with the same size.
  const std::int64_t modified = info.st_mtim.tv_sec * kSecond + info.st_mtim.tv_nsec;
  if (modified != file.seen_modified) file.seen_modified = modified, file.modified_at = now;
  const bool changed = size != file.seen_size || now - file.modified_at < kCoarseTime;
  FileCheckpoint before;
  const bool shorter = size < file.checkpoint.position;
  if (shorter) before = file.detailed();
  using Holds = TrackedFile::Holds;
  const Holds holds = shorter ? Holds::no : changed ? file.verify(&before) : Holds::yes;
  if (holds == Holds::unknown) {
    file.seen_modified = -1;  // it is asked again
    cannot_read(file, errno);
    return false;
  }
  if (changed && std::exchange(file.unreadable, false))
    intake_.problems().clear("source " + name_ + ": " + file.checkpoint.path);
  if (holds == Holds::no) {
    counters_.count("truncated");
    file.restart();
    calls_.truncated(file, std::move(before));
    return false;
  }
  file.grew = size != file.seen_size;
  if (file.grew) file.seen_size = size, file.changed_at = now;
  const std::uint64_t until = std::min(size, limit);
  if (until <= file.checkpoint.position) return false;
  const std::int64_t quiet = now - file.changed_at;
  // What stands at the end without a newline, and an event that may go on, are taken after a while.
  const bool ends = quiet >= unfinished_after_ || (file.detached_at != 0 && quiet >= kCloseAfter / 2);
  const bool closes = ends || file.closing || quiet >= join_wait_;
  if (size == file.waiting_size && !ends && !(closes && split_.joins())) return false;
  const std::size_t most = std::max(kChunk, split_.longest_line + split_.most_bytes + 2);
  for (std::size_t want = kChunk;; want = most) {
    auto buffer =
        std::make_shared<LineBuffer>(std::min<std::uint64_t>(want, until - file.checkpoint.position));
    const ssize_t n = file.read_at(file.checkpoint.position, buffer->bytes.get(), buffer->capacity);
    if (n < 0) cannot_read(file, errno);
    if (n <= 0) return false;
    if (std::exchange(file.unreadable, false))
      intake_.problems().clear("source " + name_ + ": " + file.checkpoint.path);
    buffer->finish(static_cast<std::size_t>(n));
    if (file.checkpoint.position == 0 &&
        !calls_.may_begin(file, {buffer->bytes.get(), static_cast<std::size_t>(n)}))
      return false;
    if (!file.holds_place()) {  // cut in between: that was read of what came in its place
      file.seen_modified = -1;
      return true;
    }
    const bool to_end = file.checkpoint.position + static_cast<std::uint64_t>(n) >= size;
    const std::string_view chunk(buffer->bytes.get(), buffer->size);
    if (file.checkpoint.position == 0) file.first = chunk.substr(0, kFirst);
    if (skip_hole(file, chunk)) return true;
    const std::size_t mark =
        file.checkpoint.position == 0 && chunk.starts_with(kByteOrderMark) ? kByteOrderMark.size() : 0;
    Split s = split(chunk.substr(mark), split_, file.checkpoint.skipping, ends && to_end, closes && to_end);
    if (s.consumed == 0 && chunk.size() >= most)  // no line and no event is longer
      s = split(chunk.substr(mark), split_, file.checkpoint.skipping, true);
    if (s.consumed != 0) s.consumed += mark;
    for (SourceLine& line : s.events) line.position += mark;
    if (s.consumed == 0) {
      if (chunk.size() == want && want < most) continue;
      file.waiting_size = size;
      return false;
    }
    file.waiting_size = 0;
    return hand_in(file, std::move(buffer), std::move(s));
  }
}

bool FileReader::hand_in(TrackedFile& file, std::shared_ptr<LineBuffer> buffer, Split s) {
  SourceBatch batch;
  batch.source = name_;
  batch.slices = {{file.checkpoint.stream, file.resource}};
  batch.observed = clock_.wall();
  const std::uint64_t base = file.checkpoint.base + file.checkpoint.position;
  for (SourceLine& line : s.events) line.position += base;
  std::uint64_t invalid = 0;
  if (!simdjson::validate_utf8(buffer->bytes.get(), s.consumed))
    for (const SourceLine& line : s.events)
      invalid += !simdjson::validate_utf8(line.text.data(), line.text.size());
  calls_.looked();  // handing in may wait, and what waits is behind
  file.advance(file.checkpoint.position + s.consumed, {buffer->bytes.get(), s.consumed});
  file.checkpoint.skipping = s.skipping;
  batch.bytes = s.consumed;
  batch.lines = std::move(s.events);
  batch.changes.state.push_back({key(file), file.checkpoint.encode(), false});
  auto add = [&](const char* what, std::uint64_t n) { counters_.add(batch.changes, what, n); };
  add("lines", s.lines);
  add("empty", s.empty);
  add("joined", s.merged);
  add("events", batch.lines.size());
  add("cut", s.cut);
  add("cut_bytes", s.cut_bytes);
  add("invalid_utf8", invalid);
  batch.buffer = std::move(buffer);
  gathering_.add(std::move(batch));
  calls_.looked();
  return !refused();
}

}  // namespace dingle
