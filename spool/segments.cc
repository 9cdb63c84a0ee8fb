// The spool's segments: beginning one, giving up one that the disk failed, and removing those that are done
// with.
#include <algorithm>
#include <thread>

#include "spool/spool.h"

namespace dingle {

using namespace std::chrono_literals;

namespace {
constexpr std::size_t kMostEntries =
    20'000;  // of batches that all have passed: for a destination that lost them
constexpr const char *kMark = "mark", *kReserve = "reserve";
constexpr auto kRetrySync = 100ms;  // after a failed fsync that could not be made good either
}  // namespace

// The spare file under the segment's name, unless somebody still reads what it held. The bytes that it has.
std::uint64_t Spool::take_spare(const std::string& path, std::unique_ptr<DiskFile>& file) {
  if (spare_.path.empty() || spare_.file.use_count() > 1) return 0;
  const Spare spare = std::exchange(spare_, {});
  if (disk_.reuse(spare.path, path, file) == 0) return spare.bytes;
  disk_.remove(spare.path);
  disk_.remove(path);
  return 0;
}

// Opens a new segment and puts a snapshot at its head, durably. What was written before must be durable
// already. On a full disk it takes the room that was kept for that.
int Spool::begin_segment() {
  const std::uint64_t number = segments_.empty() ? 1 : segments_.back().number + 1;
  int error = write_segment_head(number);
  if (error == ENOSPC && disk_.remove(settings_.folder + "/" + kReserve) == 0)
    error = write_segment_head(number);
  return error;
}

// Room for a segment's head, so that a full disk keeps nobody from starting and emptying the spool.
void Spool::keep_reserve() {
  if (settings_.track_acknowledged) return;  // in memory
  const std::string path = settings_.folder + "/" + kReserve;
  std::unique_ptr<DiskFile> file;
  if (disk_.create(path, file) != 0) return;  // it is there
  const std::size_t size = std::max<std::size_t>(256 * 1024, 2 * encode_snapshot(snapshot()).size());
  if (file->append(std::string(size, '\0')) != 0 || file->sync() != 0) disk_.remove(path);
}

void Spool::write_mark(std::uint64_t closed_at) {
  const std::string path = settings_.folder + "/" + kMark, next = path + ".new";
  std::unique_ptr<DiskFile> file;
  disk_.remove(next);
  if (disk_.create(next, file) != 0) return;
  if (file->append(encode_mark({identity_.spool_id, identity_.epoch, closed_at})) == 0 && file->sync() == 0 &&
      disk_.rename(next, path) == 0)
    disk_.sync_folder(settings_.folder);
}

int Spool::write_segment_head(std::uint64_t number) {
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
  head +=
      encode_record(RecordType::snapshot, last_number_ + 1, durable_, encode_snapshot(snapshot()), number);
  if (int error = file->append(head)) return undo(error);
  if (int error = file->sync()) return undo(error);
  if (int error = disk_.sync_folder(settings_.folder)) return undo(error);
  ++last_number_;
  segments_.push_back({number, path, std::move(file), last_number_, reused, head.size()});
  return 0;
}

// The pages that could not be written may be gone, and a second fsync would say nothing of it. So the file is
// left as it is, and all that was not known to be durable is written once more, to a new segment.
void Spool::after_failed_sync() {
  ++failed_syncs_;
  rewrite_ = true;
  auto again = std::move(undurable_);
  undurable_.clear();
  const std::size_t bytes = std::exchange(undurable_bytes_, 0);
  int error = begin_segment();
  if (error == 0)
    unsaved_.counters.clear();  // they are in its snapshot, durably: a note would count them once more
  Segment& segment = segments_.back();
  for (std::size_t i = 0; error == 0 && i < again.size(); ++i) {
    const std::uint64_t offset = segment.file->size();
    move_record(again[i].second, segment.number);
    error = segment.file->append(again[i].second);
    for (auto e = entries_.rbegin(); error == 0 && e != entries_.rend(); ++e)
      if (e->number == again[i].first) {
        e->file = segment.file;
        e->segment = segment.number;
        e->offset = offset;
        break;
      }
  }
  if (error == 0) error = segment.file->sync();
  if (error == 0) {
    durable_ = last_number_;
    rewrite_ = false;
    return;
  }
  undurable_bytes_ = bytes;
  undurable_ = std::move(again);  // tried again with the next sync; nothing was shown to a destination
  std::this_thread::sleep_for(kRetrySync);
}

// The first record that some destination has not passed.
std::uint64_t Spool::first_needed() const {
  std::uint64_t needed = last_number_ + 1;
  for (const auto& [id, d] : destinations_)
    if (d.cursor.appended > d.cursor.passed) needed = std::min(needed, d.cursor.number + 1);
  return needed;
}

// Removes the segments that every destination has passed.
void Spool::trim(std::unique_lock<std::mutex>& lock) {
  const std::uint64_t needed = first_needed();
  while (entries_.size() > kMostEntries && entries_.front().number < needed) entries_.pop_front();
  std::size_t removable = 0;
  while (removable + 1 < segments_.size() && segments_[removable].last_record < needed) ++removable;
  if (removable == 0 || rewrite_) return;
  // The cursors must be on disk first: else a crash would let a destination look for what is gone.
  if (owes_note())
    if (write_note({}) != 0) return;
  if (syncing_) return;  // soon again
  const std::uint64_t target = last_number_;
  std::shared_ptr<DiskFile> file = segments_.back().file;
  syncing_ = true;
  lock.unlock();
  const int error = file->sync();
  lock.lock();
  syncing_ = false;
  progress_.notify_all();
  if (error != 0) {
    if (file == segments_.back().file && settings_.sync != SpoolSync::os) after_failed_sync();
    return;
  }
  if (target > durable_ && file == segments_.back().file) durable_ = target;
  forget_durable();
  progress_.notify_all();
  std::vector<Segment> done(segments_.begin(), segments_.begin() + static_cast<std::ptrdiff_t>(removable));
  // The batches of segments that stay can still be read: a destination restored from a backup may need them.
  const std::uint64_t gone = segments_[removable - 1].last_record;
  segments_.erase(segments_.begin(), segments_.begin() + static_cast<std::ptrdiff_t>(removable));
  while (!entries_.empty() && entries_.front().number <= gone) entries_.pop_front();
  // One is kept to be written again, if there is none.
  const bool keep = spare_.path.empty();
  const std::string spare = settings_.folder + "/spare.log";
  lock.unlock();
  const bool kept = keep && disk_.rename(done.back().path, spare) == 0;
  for (const Segment& segment : done)
    if (!kept || segment.path != done.back().path) disk_.remove(segment.path);
  keep_reserve();
  lock.lock();
  if (kept) spare_ = {spare, done.back().file, std::max(done.back().reused, done.back().file->size())};
}

}  // namespace dingle
