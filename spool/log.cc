#include "spool/log.h"

#include <unistd.h>

#include <algorithm>
#include <cerrno>
#include <cstring>

namespace dingle {
namespace {

constexpr const char *kMark = "mark", *kReserve = "reserve", *kSpare = "spare.log";
constexpr std::size_t kMostBuffers = 4, kLargestBuffer = 1u << 20;  // that are kept for the next records
constexpr std::size_t kLeastReserve = 256 * 1024;
constexpr std::size_t kMostBuffered = 256 * 1024;  // of a segment's head

std::size_t reserve_for(const Snapshot& snapshot) {
  return std::max(kLeastReserve, 2 * snapshot_size(snapshot));
}

// Room for a segment's head, so that a full disk keeps nobody from starting and emptying the spool. Whether it is there.
bool keep_reserve(Disk& disk, const std::string& folder, std::size_t bytes) {
  const std::string path = folder + "/" + kReserve;
  std::unique_ptr<DiskFile> file;
  if (const int error = disk.create(path, file)) return error == EEXIST;
  if (file->append(std::string(bytes, '\0')) == 0 && file->sync() == 0) return true;
  disk.remove(path);
  return false;
}

}  // namespace

Log::~Log() {
  if (lock_ >= 0) ::close(lock_);
}

// ---- writing

int Log::write(RecordType type, std::string record, bool compressed, Place* place) {
  Segment& segment = segments_.back();
  seal_record(record, type, last_ + 1, durable_, segment.number, compressed);
  const std::uint64_t offset = segment.file->size();
  int error = segment.file->append(record);
  if (error == ENOSPC && give_up_spare()) error = segment.file->append(record);
  short_of_room_ = error == ENOSPC;
  if (error) return error;
  segment.last_record = ++last_;
  if (place) *place = {segment.file, segment.number, offset, static_cast<std::uint32_t>(record.size())};
  if (settings_.durable) {
    undurable_bytes_ += record.size();
    undurable_.emplace_back(last_, std::move(record));
  }
  return 0;
}

int Log::begin_next(Snapshot snapshot, bool& lost) {
  lost = rewrite_ || segments_.back().file->sync() != 0;
  if (lost) return 0;
  durable_ = last_;
  forget_durable();
  if (int error = begin_segment(std::move(snapshot))) return error;
  durable_ = last_;
  return 0;
}

// Forgets the copies of records that are on disk.
void Log::forget_durable() {
  for (; !undurable_.empty() && undurable_.front().first <= durable_; undurable_.pop_front()) {
    std::string& record = undurable_.front().second;
    undurable_bytes_ -= record.size();
    if (buffers_.size() < kMostBuffers && record.capacity() <= kLargestBuffer)
      buffers_.push_back(std::move(record));
  }
}

std::string Log::buffer() {
  if (buffers_.empty()) return {};
  std::string buffer = std::move(buffers_.back());
  buffers_.pop_back();
  return buffer;
}

// Its room, for what is to be written. Whether there was one.
bool Log::give_up_spare() {
  if (spare_.path.empty()) return false;
  return disk_.remove(std::exchange(spare_, {}).path) == 0;
}

void Log::keep_no_spare(bool none) {
  no_spare_ = none;
  if (none) give_up_spare();
}

void Log::forget_buffers() { decltype(buffers_)().swap(buffers_); }

// ---- making it durable

int Log::Sync::run() const { return fails ? EIO : file->sync(); }

Log::Sync Log::begin_sync() {
  syncing_ = true;
  return {segments_.back().file, last_, rewrite_};
}

bool Log::end_sync(const Sync& sync, int error) {
  syncing_ = false;
  if (error == 0) {
    durable_ = std::max(durable_, sync.target);
    forget_durable();
    return true;
  }
  return false;
}

bool Log::sync_now() {
  if (segments_.back().file->sync() != 0) return false;
  durable_ = last_;
  forget_durable();
  return true;
}

// The pages that could not be written may be gone, and a second fsync would say nothing of it. So the file is
// left as it is, and all that was not known to be durable is written once more, to a new segment.
Log::Rewritten Log::rewrite(Snapshot snapshot) {
  Rewritten rewritten;
  ++failed_syncs_;
  rewrite_ = true;
  auto again = std::exchange(undurable_, {});
  const std::size_t bytes = std::exchange(undurable_bytes_, 0);
  int error = begin_segment(std::move(snapshot));
  rewritten.began = error == 0;
  Segment& segment = segments_.back();
  for (std::size_t i = 0; error == 0 && i < again.size(); ++i) {
    auto& [number, record] = again[i];
    const std::uint64_t offset = segment.file->size();
    move_record(record, segment.number);
    error = segment.file->append(record);
    if (error == 0)
      rewritten.moved.push_back(
          {number, {segment.file, segment.number, offset, static_cast<std::uint32_t>(record.size())}});
  }
  if (error == 0) error = segment.file->sync();
  rewritten.done = error == 0;
  if (rewritten.done) {
    durable_ = last_;
    rewrite_ = false;
  } else {
    undurable_bytes_ = bytes;
    undurable_ = std::move(again);  // nothing of it was shown to a destination
  }
  return rewritten;
}

// ---- segments

// The spare file under the segment's name, unless somebody still reads what it held. The bytes that it has.
std::uint64_t Log::take_spare(const std::string& path, std::unique_ptr<DiskFile>& file) {
  if (spare_.path.empty() || spare_.file.use_count() > 1) return 0;
  const Spare spare = std::exchange(spare_, {});
  if (disk_.reuse(spare.path, path, file) == 0) return spare.bytes;
  disk_.remove(spare.path);
  disk_.remove(path);
  return 0;
}

// Opens a new segment and puts a snapshot at its head, durably. What was written before must be durable
// already. On a full disk it takes the room that was kept for that.
int Log::begin_segment(Snapshot snapshot) {
  snapshot.number = last_;
  const std::uint64_t number = segments_.empty() ? 1 : segments_.back().number + 1;
  int error = write_segment_head(number, snapshot);
  if (error == ENOSPC && disk_.remove(settings_.folder + "/" + kReserve) == 0) {
    reserved_ = settings_.in_memory;
    error = write_segment_head(number, snapshot);
  }
  short_of_room_ = error == ENOSPC;
  return error;
}

int Log::write_segment_head(std::uint64_t number, const Snapshot& snapshot) {
  const std::string path = settings_.folder + "/" + segment_name(number);
  std::unique_ptr<DiskFile> file;
  const std::uint64_t reused = take_spare(path, file);
  if (!file)
    if (int error = disk_.create(path, file)) return error;
  auto undo = [&](int error) {
    file.reset();
    disk_.remove(path);
    return error;
  };
  std::string head =
      encode_segment_header({identity_.spool_id, identity_.epoch, identity_.nonce, number, reused});
  std::size_t size = head.size();
  int error = write_snapshot(snapshot, last_ + 1, durable_, number, [&](std::string_view part) {
    size += part.size();
    if (head.size() + part.size() > kMostBuffered) {
      if (const int e = file->append(head)) return e;
      head.clear();
    }
    head += part;
    return 0;
  });
  if (error == 0) error = file->append(head);
  if (error != 0) return undo(error);
  if (error = file->sync(); error != 0) return undo(error);
  if (error = disk_.sync_folder(settings_.folder); error != 0) return undo(error);
  ++last_;
  segments_.push_back({number, path, std::move(file), last_, reused, size});
  return 0;
}

void Log::write_mark(std::uint64_t closed_at) {
  const std::string path = settings_.folder + "/" + kMark, next = path + ".new";
  std::unique_ptr<DiskFile> file;
  disk_.remove(next);
  if (disk_.create(next, file) != 0) return;
  if (file->append(encode_mark({identity_.spool_id, identity_.epoch, closed_at})) == 0 && file->sync() == 0 &&
      disk_.rename(next, path) == 0)
    disk_.sync_folder(settings_.folder);
}

void Log::close() {
  if (segments_.back().file->sync() == 0 && !rewrite_) write_mark(last_);
}

Result<std::uint64_t> Log::begin(Snapshot snapshot, std::uint64_t needed) {
  auto failed = [](const std::string& what, int error) {
    return Problem{what + ": " + std::strerror(error), "", 0, 0};
  };
  // Every earlier record is made durable before the new epoch begins, so that its snapshot may stand on them.
  for (const Segment& s : segments_)
    if (int error = s.file->sync()) return failed("cannot sync " + s.path, error);
  durable_ =
      last_;  // and the snapshot says so: what is damaged before it is passed over, not cut off with it
  write_mark(0);
  std::uint64_t gone = 0;
  int error = begin_segment(snapshot);
  while (error == ENOSPC && segments_.size() > 1 && segments_.front().last_record < needed) {
    gone = segments_.front().last_record;
    disk_.remove(segments_.front().path);
    segments_.erase(segments_.begin());
    error = begin_segment(snapshot);
  }
  if (error) return failed("cannot begin a segment in " + settings_.folder, error);
  durable_ = last_;
  reserved_ = settings_.in_memory || keep_reserve(disk_, settings_.folder, reserve_for(snapshot));
  return gone;
}

// ---- removing

std::size_t Log::removable(std::uint64_t needed) const {
  const std::size_t kept = short_of_room_ || !reserved_ || settings_.in_memory ? 1 : 2;
  std::size_t n = 0;
  while (n + kept < segments_.size() && segments_[n].last_record < needed) ++n;
  return n;
}

Log::Removal Log::remove(std::size_t segments, const std::optional<Snapshot>& now) {
  const auto end = segments_.begin() + static_cast<std::ptrdiff_t>(segments);
  const Segment& newest = *(end - 1);
  Removal removal{disk_,
                  settings_.folder,
                  newest.last_record,
                  {},
                  newest.file,
                  std::max(newest.reused, newest.file->size()),
                  spare_.path.empty() && !short_of_room_ && !no_spare_,
                  now ? reserve_for(*now) : 0};
  for (auto s = segments_.begin(); s != end; ++s) removal.paths.push_back(s->path);
  segments_.erase(segments_.begin(), end);
  return removal;
}

void Log::Removal::run() {
  keep = keep && disk.rename(paths.back(), folder + "/" + kSpare) == 0;
  if (keep) paths.pop_back();
  for (const std::string& path : paths) disk.remove(path);
  if (reserve != 0 && keep_reserve(disk, folder, reserve)) reserve = 0;
}

void Log::removed(Removal removal) {
  reserved_ = removal.reserve == 0;
  if (removal.keep && no_spare_)  // somebody erases since it began
    disk_.remove(settings_.folder + "/" + kSpare);
  else if (removal.keep)
    spare_ = {settings_.folder + "/" + kSpare, std::move(removal.newest), removal.newest_bytes};
}

Log::Size Log::size() const {
  Size s{spare_.bytes, segments_.size(), failed_syncs_};
  for (const Segment& segment : segments_) s.bytes += std::max(segment.reused, segment.file->size());
  return s;
}

}  // namespace dingle
