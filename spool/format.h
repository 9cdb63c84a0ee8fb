// The spool's files, byte by byte. Integers are little-endian; `varint` and `text` are those of core/bytes.h.
//
// The spool is a folder of segments, `segment-<16 hex digits>.log`, numbered upwards. A segment is
//
//   offset  size  what
//        0     8  the bytes "DNGLSPL4"
//        8     8  spool id: random, the same in all segments of a spool
//       16     8  epoch: raised by one, durably, at every open of the spool
//       24     8  nonce: random, drawn at every open
//       32     8  the segment's number, as in its name
//       40     8  reused: the bytes that the file held when it became this segment; 0 for a new file
//       48     8  XXH64 of the 48 bytes before
//       56     -  records, one after another; behind them, below `reused`, what an earlier segment left
//
// and a record is
//
//        0     4  the bytes "DREC"
//        4     4  size of the payload in bytes, at most kLargestPayload
//        8     8  number: grows by one from record to record, over segments and epochs; never used twice
//       16     8  durable: the newest number that was known to be on disk when this record was written
//       24     1  type: 1 snapshot, 2 batch, 3 note
//       25     1  1: the events of a batch are one zstd frame (RFC 8878); else 0
//       26     6  zeros
//       32     8  XXH64 of the 32 bytes before and the payload, one after another, with the segment's number
//                 as its seed: records that an earlier segment left in the file are not intact in this one
//       40     -  payload
//
// Invariants:
//  - The first record of a segment is a snapshot: all state, counters and cursors as of its number. A segment
//  is removed
//    only after a newer segment's snapshot is on disk and every cursor has passed the segment's last batch,
//    durably.
//  - Records are appended in order of their numbers. A number may occur twice, with equal contents, in two
//  segments: when
//    an fsync failed, what it should have saved was written again to a new segment. The later copy counts.
//
// Crash cases: a torn last record fails its checksum and is cut off, with all that follows. A damaged record
// is below a `durable` that a later record carries: then it was on disk once and was destroyed since; it is
// skipped and counted. Above every known `durable`, later records are cut off as well: their checkpoints
// would hide the hole. A segment whose header is not valid was being made: it is removed if it is the last,
// else counted as damage.
#pragma once

#include <cstdint>
#include <functional>
#include <map>
#include <string>
#include <string_view>
#include <vector>

#include "core/packed_map.h"

namespace dingle {

inline constexpr std::string_view kSegmentMagic = "DNGLSPL4";  // the last sign is the format's version
inline constexpr std::string_view kRecordMagic = "DREC";
inline constexpr std::size_t kSegmentHeaderSize = 56;
inline constexpr std::size_t kRecordHeaderSize = 40;
inline constexpr std::size_t kLargestPayload = 256u << 20;

struct SegmentHeader {
  std::uint64_t spool_id = 0, epoch = 0, nonce = 0, number = 0, reused = 0;
};
std::string encode_segment_header(const SegmentHeader& header);
bool decode_segment_header(std::string_view bytes, SegmentHeader& header);
// The header that the bytes were before one bit of them was turned round; `number` is the segment's, by its
// name.
bool repair_segment_header(std::string_view bytes, std::uint64_t number, SegmentHeader& header);
bool has_other_format(std::string_view bytes);  // a segment of another version of the format
std::string segment_name(std::uint64_t number);
std::uint64_t segment_number(std::string_view name);  // 0 if it is no segment's name

// The file `mark` of the spool's folder says again what every segment's header says, and how the last run
// ended: 8 bytes `DNGLMRK1`, u64 spool id, u64 epoch of the last open, u64 number of the last record if the
// spool was closed (0 while it is open, and after a kill), XXH64 of the 32 bytes before. So a newest segment
// that is missing, short or has a destroyed header is noticed, and its records keep their epoch. Replaced
// whole, at every open and close; never needed.
struct SpoolMark {
  std::uint64_t spool_id = 0, epoch = 0, closed_at = 0;
};
std::string encode_mark(const SpoolMark& mark);
bool decode_mark(std::string_view bytes, SpoolMark& mark);

enum class RecordType : std::uint8_t { snapshot = 1, batch = 2, note = 3 };

struct RecordHeader {
  std::uint32_t payload_size = 0;
  std::uint64_t number = 0, durable = 0;
  RecordType type = RecordType::batch;
  bool compressed = false;
  std::uint64_t checksum = 0;
};
std::string encode_record(RecordType type, std::uint64_t number, std::uint64_t durable,
                          std::string_view payload, std::uint64_t segment, bool compressed = false);
// Makes a record, in place, of kRecordHeaderSize bytes that are to be written and the payload behind them.
void seal_record(std::string& record, RecordType type, std::uint64_t number, std::uint64_t durable,
                 std::uint64_t segment, bool compressed);
// Makes it a record of another segment.
void move_record(std::string& record, std::uint64_t segment);
// The header alone; the checksum is checked with the payload by `record_is_intact`.
bool decode_record_header(std::string_view bytes, RecordHeader& header);
bool record_is_intact(std::string_view header_and_payload, std::uint64_t segment);
// Of the bytes behind a segment's last intact record, `last`: how many are of a write that was cut off,
// rather than left by an earlier segment.
std::uint64_t torn_bytes(const SegmentHeader& header, std::string_view bytes, std::size_t at,
                         std::uint64_t last);

// ---- payloads
// --------------------------------------------------------------------------------------------------
//
//   changes  = varint n, n times { text key, u8 kept, [text value] }   state: set, or removed when kept is 0
//              varint n, n times { varint number, text name }          counters that are new; "": it is forgotten
//              varint n, n times { varint number, zigzag change }      counters: added
//   cursors  = varint n, n times { varint destination, varint number, varint passed, varint appended }
//   note     = changes cursors
//   batch    = u64 time of append, changes, varint n, n times { varint destination, varint events }, then the events (events.h)
//   snapshot = varint number (state as of), changes (complete), cursors (complete)

struct NumberRange {
  std::uint64_t first = 0, last = 0;
  std::uint64_t count() const { return last - first + 1; }
};
// Numbers without a record, between those that are there.
struct MissingRecords {
  NumberRange numbers;
  bool segments = false;  // whole files are not there
};

// State is a map from keys to bytes: checkpoints of sources, ids of destinations and pipelines, what steps
// remember.
struct StateChange {
  std::string key;
  std::string value;
  bool removed = false;
  void apply(PackedMap& to) const;
};
using CounterId = std::uint32_t;
struct CounterName {
  CounterId id = 0;
  std::string name;
};
struct CounterChange {
  CounterId id = 0;
  std::int64_t change = 0;
};
struct Changes {
  std::vector<StateChange> state;
  std::vector<CounterChange> counters;
  std::vector<CounterName> names = {};  // the spool's own; in notes and snapshots only
};
struct Cursor {
  std::uint64_t number = 0;    // of the last record that the destination is done with
  std::uint64_t passed = 0;    // events for it up to there, since the spool began
  std::uint64_t appended = 0;  // events for it in all, since the spool began; exact in snapshots only
};
using Cursors = std::map<std::uint32_t, Cursor>;  // by destination id

struct BatchPayload {
  std::int64_t appended_at = 0;  // ns since 1970 UTC
  Changes changes;
  std::vector<std::pair<std::uint32_t, std::uint32_t>> destinations;  // id, events for it
  std::string_view events;
};
struct Snapshot {
  std::uint64_t number = 0;
  PackedMap state;
  std::map<CounterId, std::int64_t> counters;
  std::vector<CounterName> names;  // of all counters
  Cursors cursors;
  std::int64_t counter(const std::string& name) const;  // 0 if there is none
};

std::string encode_batch(const BatchPayload& batch);
void append_batch(const BatchPayload& batch, std::string& out);
bool decode_batch(std::string_view payload, BatchPayload& batch);  // `events` is a view into the payload
std::string encode_note(const Changes& changes, const Cursors& cursors);
bool decode_note(std::string_view payload, Changes& changes, Cursors& cursors);
std::string encode_snapshot(const Snapshot& snapshot);
// Hands a snapshot's record to `write` in parts, so that a large one does not stand in memory twice more. Answers an errno value:
// what `write` answered, or EMSGSIZE for one that would be longer than what is read; then nothing was written.
int write_snapshot(const Snapshot& snapshot, std::uint64_t number, std::uint64_t durable,
                   std::uint64_t segment, const std::function<int(std::string_view)>& write);
std::size_t snapshot_size(const Snapshot& snapshot);  // of the payload
bool decode_snapshot(std::string_view payload, Snapshot& snapshot);

}  // namespace dingle
