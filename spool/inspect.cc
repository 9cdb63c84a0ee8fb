#include "spool/inspect.h"

#include <algorithm>
#include <cstring>

#include "spool/state.h"

namespace dingle {
namespace {

struct Waits {
  std::uint32_t size = 0;
  std::vector<std::pair<std::uint32_t, std::uint32_t>> destinations;
};

// Takes what a record says into the report; `base`: the record as of which the state is known already.
void take(const RecordHeader& h, std::string_view payload, SpoolReport& report,
          std::map<std::uint64_t, Waits>& batches, std::uint64_t& base) {
  Changes changes;
  if (h.type == RecordType::snapshot) {
    ++report.snapshots;
    Snapshot snapshot;
    if (decode_snapshot(payload, snapshot)) report.state = std::move(snapshot), base = h.number;
  } else if (h.type == RecordType::note) {
    ++report.notes;
    Cursors cursors;
    decode_note(payload, changes, cursors);
    for (const auto& [id, cursor] : cursors) {
      report.state.cursors[id].number = cursor.number;
      report.state.cursors[id].passed = cursor.passed;
    }
  } else {
    ++report.batches;
    report.compressed += h.compressed;
    BatchPayload batch;
    decode_batch(payload, batch);
    changes = std::move(batch.changes);
    batches[h.number] = {static_cast<std::uint32_t>(kRecordHeaderSize + h.payload_size),
                         std::move(batch.destinations)};
  }
  if (h.number <= base) return;
  for (const StateChange& c : changes.state) c.apply(report.state.state);
}

}  // namespace

bool SpoolReport::damaged() const {
  return missing_records != 0 || std::any_of(segments.begin(), segments.end(), [](const Segment& s) {
           return !s.problem.empty() || s.damaged_bytes != 0;
         });
}

Result<SpoolReport> inspect_spool(Disk& disk, const std::string& folder) {
  SpoolReport report;
  std::vector<std::string> names;
  if (const int error = disk.list(folder, names))
    return Problem{"cannot list " + folder + ": " + std::strerror(error), "name the data folder with --data",
                   0, 0};
  std::erase_if(names, [](const std::string& n) { return segment_number(n) == 0; });
  std::sort(names.begin(), names.end());
  if (names.empty())
    return Problem{"there is no spool in " + folder, "name the data folder with --data", 0, 0};
  std::map<std::uint64_t, Waits> batches;
  std::uint64_t last = 0, base = 0;
  std::uint64_t last_segment = 0;  // that has a record
  std::vector<MissingRecords> missing;
  for (const std::string& name : names) {
    SpoolReport::Segment& s = report.segments.emplace_back();
    s.name = name;
    std::unique_ptr<DiskFile> file;
    std::string bytes;
    int error = disk.open(folder + "/" + name, file);
    if (error == 0) error = file->read(0, file->size(), bytes);
    SegmentHeader header;
    if (error != 0)
      s.problem = std::strerror(error);
    else if (has_other_format(bytes))
      s.problem = "it has another version of the format";
    else if (!decode_segment_header(bytes, header) || segment_name(header.number) != name)
      s.problem =
          name == names.back() ? "its header is not whole: it was being made" : "its header is damaged";
    s.bytes = bytes.size();
    s.epoch = header.epoch;
    if (!s.problem.empty()) continue;
    report.spool_id = header.spool_id;
    const std::uint64_t segment = header.number;
    std::size_t good = kSegmentHeaderSize;
    for (std::size_t at = good; at < bytes.size();) {
      const std::string_view rest = std::string_view(bytes).substr(at);
      if (!record_is_intact(rest, header.number)) {
        at = bytes.find(kRecordMagic, at + 1);
        continue;
      }
      RecordHeader h;
      decode_record_header(rest, h);
      s.damaged_bytes += at - good;
      if (s.records++ == 0) s.first = h.number;
      s.last = h.number;
      if (last != 0 && h.number > last + 1)
        missing.push_back({{last + 1, h.number - 1}, segment > last_segment + 1});
      last_segment = segment;
      last = std::max(last, h.number);
      take(h, rest.substr(kRecordHeaderSize, h.payload_size), report, batches, base);
      at += kRecordHeaderSize + h.payload_size;
      good = at;
    }
    (name == names.back() ? report.torn_bytes : s.damaged_bytes) += torn_bytes(header, bytes, good, s.last);
  }
  std::uint64_t needed = base;
  for (const auto& [id, cursor] : report.state.cursors)
    if (cursor.appended > cursor.passed) needed = std::min(needed, cursor.number + 1);
  report.missing_records = lost_records(missing, report.state.state, needed);
  for (const auto& [number, batch] : batches)
    for (auto [id, events] : batch.destinations) {
      auto cursor = report.state.cursors.find(id);
      if (cursor != report.state.cursors.end() && number <= cursor->second.number) continue;
      SpoolReport::Waiting& w = report.waiting[id];
      ++w.records;
      w.events += events;
      w.bytes += batch.size;
    }
  return report;
}

}  // namespace dingle
