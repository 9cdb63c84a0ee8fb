// Opening a spool: reading all segments, finding what is whole, cutting off what is torn.
#include <fcntl.h>
#include <sys/file.h>
#include <unistd.h>

#include <algorithm>
#include <cstring>
#include <random>

#include "core/time/instant.h"
#include "spool/log.h"

namespace dingle {
namespace {

std::uint64_t random_number() {
  std::random_device device;
  std::uint64_t n = (static_cast<std::uint64_t>(device()) << 32) ^ device();
  return n == 0 ? 1 : n;
}

// An intact record, and where it is.
struct Found {
  RecordHeader header;
  std::size_t segment = 0;
  std::uint64_t offset = 0;
};

struct Scanned {
  SegmentHeader header;
  std::string name;
  std::shared_ptr<DiskFile> file;
  std::string bytes;  // the whole file, during the scan
  std::uint64_t torn = 0;
  bool headless = false;  // the header is destroyed
};

// All intact records of a segment. Behind a broken one it looks for the next place that holds an intact
// record.
void scan(std::string_view bytes, std::uint64_t number, std::size_t segment, std::vector<Found>& found) {
  std::size_t at = kSegmentHeaderSize;
  while (at + kRecordHeaderSize <= bytes.size()) {
    if (record_is_intact(bytes.substr(at), number)) {
      Found f;
      decode_record_header(bytes.substr(at), f.header);
      f.segment = segment;
      f.offset = at;
      found.push_back(f);
      at += kRecordHeaderSize + f.header.payload_size;
    } else {
      at = bytes.find(kRecordMagic, at + 1);
      if (at == std::string_view::npos) return;
    }
  }
}

}  // namespace

std::optional<Problem> Log::read(std::vector<Record>& all) {
  auto failed = [&](const std::string& what, int error) {
    return Problem{what + ": " + std::strerror(error), "", 0, 0};
  };
  if (int error = disk_.make_folder(settings_.folder))
    return failed("cannot make the spool's folder " + settings_.folder, error);
  if (&disk_ == &system_disk()) {
    lock_ = ::open((settings_.folder + "/lock").c_str(), O_RDWR | O_CREAT | O_CLOEXEC, 0600);
    if (lock_ < 0) return failed("cannot open the spool's lock " + settings_.folder + "/lock", errno);
    if (::flock(lock_, LOCK_EX | LOCK_NB) != 0)
      return Problem{"the spool " + settings_.folder + " is in use by another process",
                     "stop it first, or give this one another data folder", 0, 0};
  }
  std::vector<std::string> names;
  if (int error = disk_.list(settings_.folder, names))
    return failed("cannot list " + settings_.folder, error);
  std::sort(names.begin(), names.end());
  if (std::find(names.begin(), names.end(), "spare.log") != names.end())
    disk_.remove(settings_.folder + "/spare.log");
  std::erase_if(names, [](const std::string& n) { return segment_number(n) == 0; });

  SpoolMark mark;
  bool marked = false;
  if (std::unique_ptr<DiskFile> file; disk_.open(settings_.folder + "/mark", file) == 0) {
    std::string bytes;
    marked = file->read(0, 64, bytes) == 0 && decode_mark(bytes, mark);
  }

  std::vector<Scanned> scanned;
  std::vector<Found> found;
  for (const std::string& name : names) {
    const std::string path = settings_.folder + "/" + name;
    Scanned s;
    std::unique_ptr<DiskFile> file;
    if (int error = disk_.open(path, file)) return failed("cannot open " + path, error);
    s.name = name;
    s.file = std::move(file);
    if (int error = s.file->read(0, s.file->size(), s.bytes)) return failed("cannot read " + path, error);
    const std::uint64_t number = segment_number(name);
    // A sound header with another number: the file was about to be used again.
    const bool sound = decode_segment_header(s.bytes, s.header);
    s.headless = !sound && !repair_segment_header(s.bytes, number, s.header);
    if (s.headless && has_other_format(s.bytes))
      return Problem{path + " has another version of the spool's format",
                     "let the dingled that wrote it empty it, or give this one another data folder", 0, 0};
    const std::size_t before = found.size();
    if (s.headless) s.header.reused = s.bytes.size();
    // What an earlier segment left in the file is not intact in this one.
    scan(s.bytes, number, scanned.size(), found);
    if (found.size() == before && (s.headless || s.header.number != number)) {
      if (name == names.back() || !s.headless) {
        disk_.remove(path);  // it was being made: it holds no record
      } else {
        ++recovery_.damaged_records;
        if (disk_.rename(path, path + ".damaged") == 0) recovery_.moved_aside.push_back(path + ".damaged");
      }
      continue;
    }
    if (!sound || s.header.number != number) ++recovery_.damaged_headers;
    if (sound && s.header.number != number) s.headless = true;
    s.header.number = number;
    const Found last = found.size() > before ? found.back() : Found{{}, 0, kSegmentHeaderSize};
    const std::size_t end =
        found.size() > before ? last.offset + kRecordHeaderSize + last.header.payload_size : last.offset;
    s.torn = torn_bytes(s.header, s.bytes, end, last.header.number);
    s.bytes = std::string();  // a backlog may be larger than memory
    scanned.push_back(std::move(s));
  }
  // A destroyed header's spool and epoch are known from the others, and from the mark. Its records are of the
  // epoch of the segment before or of a later one.
  std::uint64_t spool_id = marked ? mark.spool_id : 0;
  for (const Scanned& s : scanned)
    if (!s.headless) spool_id = s.header.spool_id;
  if (spool_id == 0 && !scanned.empty()) spool_id = random_number(), recovery_.guessed_epoch = true;
  for (std::size_t i = 0; i < scanned.size(); ++i) {
    SegmentHeader& h = scanned[i].header;
    if (!scanned[i].headless) {
      if (h.spool_id == spool_id) continue;
      return Problem{settings_.folder + "/" + scanned[i].name + " belongs to another spool",
                     "move it away: one folder holds one spool", 0, 0};
    }
    h.spool_id = spool_id;
    const std::uint64_t before = i == 0 ? 0 : scanned[i - 1].header.epoch;
    const bool last = i + 1 == scanned.size();
    const std::uint64_t behind = last || scanned[i + 1].headless ? 0 : scanned[i + 1].header.epoch;
    h.epoch = before + 1;
    if (behind == before && i != 0)
      h.epoch = before;
    else if (last && marked && mark.epoch >= before)
      h.epoch = mark.epoch;
    else
      recovery_.guessed_epoch = true;
  }

  // The records in the order of their numbers; of two copies the later one. Cut at the first gap that is not
  // known to have been on disk.
  std::uint64_t known_durable = 0, highest = 0;
  for (const Found& f : found)
    known_durable = std::max(known_durable, f.header.durable), highest = std::max(highest, f.header.number);
  std::map<std::uint64_t, Found> records;
  for (const Found& f : found) records[f.header.number] = f;
  std::uint64_t expected = records.empty() ? 0 : records.begin()->first;
  for (auto it = records.begin(); it != records.end(); ++it, ++expected) {
    if (it->first == expected) continue;
    if (it->first - 1 > known_durable) {
      for (auto cut = it; cut != records.end(); ++cut)
        ++recovery_.cut_records, recovery_.cut_bytes += kRecordHeaderSize + cut->second.header.payload_size;
      records.erase(it, records.end());
      break;
    }
    const std::size_t before = std::prev(it)->second.segment, behind = it->second.segment;
    recovery_.missing.push_back(
        {{expected, it->first - 1}, scanned[behind].header.number > scanned[before].header.number + 1});
    expected = it->first;
  }
  // What lies behind the last good record of the last segment in use is cut off on disk as well; otherwise it
  // would come back to life once newer records raise the durable mark.
  std::vector<std::uint64_t> good_size(scanned.size(), kSegmentHeaderSize);
  for (const auto& [number, f] : records)
    good_size[f.segment] =
        std::max<std::uint64_t>(good_size[f.segment], f.offset + kRecordHeaderSize + f.header.payload_size);
  std::size_t last_used = 0;
  for (const auto& [number, f] : records) last_used = std::max(last_used, f.segment);
  for (std::size_t i = 0; i < scanned.size(); ++i) {
    const std::uint64_t size = scanned[i].file->size();
    if (i < last_used || size <= good_size[i]) continue;
    if (recovery_.cut_records == 0) recovery_.cut_bytes += scanned[i].torn;
    if (int error = scanned[i].file->truncate(good_size[i]))
      return failed("cannot cut the torn end of " + scanned[i].name, error);
    if (int error = scanned[i].file->sync()) return failed("cannot sync " + scanned[i].name, error);
  }

  for (const Scanned& s : scanned)
    segments_.push_back({s.header.number, settings_.folder + "/" + s.name, s.file, 0, 0, 0});
  for (const auto& [number, f] : records) {
    const Scanned& s = scanned[f.segment];
    all.push_back({number,
                   s.header.epoch,
                   f.header.type,
                   {s.file, s.header.number, f.offset,
                    static_cast<std::uint32_t>(kRecordHeaderSize + f.header.payload_size)}});
    segments_[f.segment].last_record = std::max(segments_[f.segment].last_record, number);
  }
  for (const Scanned& s : scanned) identity_.epoch = std::max(identity_.epoch, s.header.epoch);
  new_ = scanned.empty();
  identity_.spool_id = new_ ? random_number() : scanned[0].header.spool_id;
  ++identity_.epoch;
  identity_.nonce = random_number();
  last_ = highest;
  recovery_.last_record = all.empty() ? 0 : all.back().number;
  if (marked && mark.spool_id == identity_.spool_id) {
    if (mark.closed_at > highest) recovery_.missing_records = mark.closed_at - highest;
    last_ = std::max(highest, mark.closed_at);  // no number twice
    identity_.epoch = std::max(identity_.epoch, mark.epoch + 1);
  }
  return std::nullopt;
}

std::string_view Log::payload(const Record& record, std::string& bytes) {
  if (record.place.file->read(record.place.offset, record.place.size, bytes) != 0) bytes.clear();
  return std::string_view(bytes).substr(std::min(kRecordHeaderSize, bytes.size()));
}

std::string Log::Recovery::told() const {
  std::string text;
  auto say = [&](bool so, const std::string& what) {
    if (so) text += (text.empty() ? "" : "; ") + what;
  };
  say(damaged_records != 0,
      "records of the spool that were damaged on disk and are lost: " + std::to_string(damaged_records) +
          ", with " + std::to_string(damaged_events) +
          " events that still waited, as far as is known (what their sources can read again comes again)");
  say(lost_state,
      "no snapshot of the spool's state can be read: where sources had come to, what was counted and what "
      "steps "
      "remembered is lost, but for what the records that are there say");
  say(missing_records != 0,
      "records that were there when the spool was closed and are missing at its end (a segment is "
      "gone, or was cut): " +
          std::to_string(missing_records));
  say(cut_records != 0,
      "whole records that stood behind a damaged one that was not known to be on disk, and were cut off "
      "(what their sources can read again comes again): " +
          std::to_string(cut_records));
  say(damaged_headers != 0,
      "segments with a damaged header, whose records were read: " + std::to_string(damaged_headers));
  say(guessed_epoch,
      "from when some of them are is not known: what a destination has of them already may come again");
  for (const std::string& file : moved_aside) say(true, "nothing could be read in what is now " + file);
  return text;
}

}  // namespace dingle
