#include "spool/format.h"

#define XXH_STATIC_LINKING_ONLY  // for the state on the stack
#include <fmt/format.h>
#include <xxhash.h>

#include <algorithm>
#include <charconv>

#include "core/bytes.h"

namespace dingle {
namespace {

void write_counters(ByteWriter& w, const Changes& changes) {
  w.varint(changes.names.size());
  for (const CounterName& n : changes.names) {
    w.varint(n.id);
    w.text(n.name);
  }
  w.varint(changes.counters.size());
  for (const CounterChange& c : changes.counters) {
    w.varint(c.id);
    w.zigzag(c.change);
  }
}

void write_changes(ByteWriter& w, const Changes& changes) {
  w.varint(changes.state.size());
  for (const StateChange& s : changes.state) {
    w.text(s.key);
    w.u8(!s.removed);
    if (!s.removed) w.text(s.value);
  }
  write_counters(w, changes);
}

// `state(key, value)`; no value: it is removed.
template <class State>
void read_changes(ByteReader& r, Changes& changes, State state) {
  for (std::size_t n = r.count(2); n-- && r.ok();) {
    const std::string_view key = r.text();
    if (r.u8() == 0)
      state(key, std::nullopt);
    else
      state(key, std::optional(r.text()));
  }
  for (std::size_t n = r.count(2); n-- && r.ok();) {
    const auto id = static_cast<CounterId>(r.varint());
    changes.names.push_back({id, std::string(r.text())});
  }
  for (std::size_t n = r.count(2); n-- && r.ok();) {
    const auto id = static_cast<CounterId>(r.varint());
    changes.counters.push_back({id, r.zigzag()});
  }
}

void read_changes(ByteReader& r, Changes& changes) {
  read_changes(r, changes, [&](std::string_view key, std::optional<std::string_view> value) {
    changes.state.push_back({std::string(key), std::string(value.value_or("")), !value});
  });
}

void write_cursors(ByteWriter& w, const Cursors& cursors) {
  w.varint(cursors.size());
  for (const auto& [destination, cursor] : cursors) {
    w.varint(destination);
    w.varint(cursor.number);
    w.varint(cursor.passed);
    w.varint(cursor.appended);
  }
}

void read_cursors(ByteReader& r, Cursors& cursors) {
  for (std::size_t n = r.count(4); n-- && r.ok();) {
    auto destination = static_cast<std::uint32_t>(r.varint());
    Cursor c;
    c.number = r.varint();
    c.passed = r.varint();
    c.appended = r.varint();
    cursors[destination] = c;
  }
}

constexpr std::size_t kChecksumAt = 32;  // in a record

class Checksum {
 public:
  Checksum(std::string_view header, std::uint64_t segment) {
    XXH64_reset(&state_, segment);
    add(header.substr(0, kChecksumAt));
  }
  void add(std::string_view payload) { XXH64_update(&state_, payload.data(), payload.size()); }
  std::uint64_t value() const { return XXH64_digest(&state_); }

 private:
  XXH64_state_t state_;
};

std::uint64_t checksum(std::string_view header, std::string_view payload, std::uint64_t segment) {
  Checksum sum(header, segment);
  sum.add(payload);
  return sum.value();
}

// All of it but the checksum.
std::string record_header(RecordType type, std::uint64_t number, std::uint64_t durable, std::size_t size,
                          bool compressed) {
  std::string header(kRecordMagic);
  ByteWriter w(header);
  w.u32(static_cast<std::uint32_t>(size));
  w.u64(number);
  w.u64(durable);
  w.u8(static_cast<std::uint8_t>(type));
  w.u8(compressed);
  header.append(6, '\0');
  return header;
}

}  // namespace

std::string encode_segment_header(const SegmentHeader& h) {
  std::string out(kSegmentMagic);
  ByteWriter w(out);
  w.u64(h.spool_id);
  w.u64(h.epoch);
  w.u64(h.nonce);
  w.u64(h.number);
  w.u64(h.reused);
  w.u64(XXH64(out.data(), out.size(), 0));
  return out;
}

bool decode_segment_header(std::string_view bytes, SegmentHeader& h) {
  if (bytes.size() < kSegmentHeaderSize || bytes.substr(0, 8) != kSegmentMagic) return false;
  ByteReader r(bytes.substr(8, 48));
  h.spool_id = r.u64();
  h.epoch = r.u64();
  h.nonce = r.u64();
  h.number = r.u64();
  h.reused = r.u64();
  return r.u64() == XXH64(bytes.data(), 48, 0);
}

bool repair_segment_header(std::string_view bytes, std::uint64_t number, SegmentHeader& h) {
  std::string head(bytes.substr(0, kSegmentHeaderSize));
  for (std::size_t bit = 0; bit < 8 * head.size(); ++bit) {
    const auto mask = static_cast<char>(1u << (bit % 8));
    head[bit / 8] = static_cast<char>(head[bit / 8] ^ mask);
    if (decode_segment_header(head, h) && h.number == number) return true;
    head[bit / 8] = static_cast<char>(head[bit / 8] ^ mask);
  }
  return false;
}

namespace {
constexpr std::string_view kMarkMagic = "DNGLMRK1";
}

std::string encode_mark(const SpoolMark& m) {
  std::string out(kMarkMagic);
  ByteWriter w(out);
  w.u64(m.spool_id);
  w.u64(m.epoch);
  w.u64(m.closed_at);
  w.u64(XXH64(out.data(), out.size(), 0));
  return out;
}

bool decode_mark(std::string_view bytes, SpoolMark& m) {
  if (bytes.size() != 40 || !bytes.starts_with(kMarkMagic)) return false;
  ByteReader r(bytes.substr(8));
  m.spool_id = r.u64();
  m.epoch = r.u64();
  m.closed_at = r.u64();
  return r.u64() == XXH64(bytes.data(), 32, 0);
}

bool has_other_format(std::string_view bytes) {
  const std::size_t version = kSegmentMagic.size() - 1;
  return bytes.size() > version && bytes.substr(0, version) == kSegmentMagic.substr(0, version) &&
         bytes[version] != kSegmentMagic[version];
}

std::string segment_name(std::uint64_t number) { return fmt::format("segment-{:016x}.log", number); }

std::uint64_t segment_number(std::string_view name) {
  std::uint64_t number = 0;
  if (name.size() != 28 || !name.starts_with("segment-")) return 0;
  auto [end, error] = std::from_chars(name.data() + 8, name.data() + 24, number, 16);
  return error == std::errc() && segment_name(number) == name ? number : 0;
}

std::string encode_record(RecordType type, std::uint64_t number, std::uint64_t durable,
                          std::string_view payload, std::uint64_t segment, bool compressed) {
  std::string out;
  out.reserve(kRecordHeaderSize + payload.size());
  out.assign(kRecordHeaderSize, '\0');
  out += payload;
  seal_record(out, type, number, durable, segment, compressed);
  return out;
}

void seal_record(std::string& record, RecordType type, std::uint64_t number, std::uint64_t durable,
                 std::uint64_t segment, bool compressed) {
  std::string header = record_header(type, number, durable, record.size() - kRecordHeaderSize, compressed);
  ByteWriter(header).u64(checksum(header, std::string_view(record).substr(kRecordHeaderSize), segment));
  header.copy(record.data(), header.size());
}

void move_record(std::string& record, std::uint64_t segment) {
  std::string sum;
  ByteWriter(sum).u64(checksum(record, std::string_view(record).substr(kRecordHeaderSize), segment));
  record.replace(kChecksumAt, sum.size(), sum);
}

bool decode_record_header(std::string_view bytes, RecordHeader& h) {
  if (bytes.size() < kRecordHeaderSize || bytes.substr(0, 4) != kRecordMagic) return false;
  ByteReader r(bytes.substr(4, kRecordHeaderSize - 4));
  h.payload_size = r.u32();
  h.number = r.u64();
  h.durable = r.u64();
  std::uint8_t type = r.u8();
  h.compressed = r.u8() != 0;
  r.bytes(6);
  h.checksum = r.u64();
  h.type = static_cast<RecordType>(type);
  return type >= 1 && type <= 3 && h.payload_size <= kLargestPayload;
}

bool record_is_intact(std::string_view bytes, std::uint64_t segment) {
  RecordHeader h;
  if (!decode_record_header(bytes, h) || bytes.size() < kRecordHeaderSize + h.payload_size) return false;
  return checksum(bytes, bytes.substr(kRecordHeaderSize, h.payload_size), segment) == h.checksum;
}

std::uint64_t torn_bytes(const SegmentHeader& header, std::string_view bytes, std::size_t at,
                         std::uint64_t last) {
  if (bytes.size() > header.reused) return bytes.size() - std::max<std::uint64_t>(at, header.reused);
  RecordHeader next;
  if (!decode_record_header(bytes.substr(at), next) || next.number != last + 1) return 0;
  return std::min<std::uint64_t>(kRecordHeaderSize + next.payload_size, bytes.size() - at);
}

std::string encode_batch(const BatchPayload& batch) {
  std::string out;
  append_batch(batch, out);
  return out;
}

void append_batch(const BatchPayload& batch, std::string& out) {
  out.reserve(out.size() + batch.events.size() + 1024);
  ByteWriter w(out);
  w.u64(static_cast<std::uint64_t>(batch.appended_at));
  write_changes(w, batch.changes);
  w.varint(batch.destinations.size());
  for (auto [destination, events] : batch.destinations) {
    w.varint(destination);
    w.varint(events);
  }
  out += batch.events;
}

bool decode_batch(std::string_view payload, BatchPayload& batch) {
  ByteReader r(payload);
  batch.appended_at = static_cast<std::int64_t>(r.u64());
  read_changes(r, batch.changes);
  for (std::size_t n = r.count(2); n-- && r.ok();) {
    auto destination = static_cast<std::uint32_t>(r.varint());
    batch.destinations.emplace_back(destination, static_cast<std::uint32_t>(r.varint()));
  }
  batch.events = r.bytes(r.left());
  return r.ok();
}

std::string encode_note(const Changes& changes, const Cursors& cursors) {
  std::string out;
  ByteWriter w(out);
  write_changes(w, changes);
  write_cursors(w, cursors);
  return out;
}

bool decode_note(std::string_view payload, Changes& changes, Cursors& cursors) {
  ByteReader r(payload);
  read_changes(r, changes);
  read_cursors(r, cursors);
  return r.ok();
}

// Calls `part` with the payload, piece by piece, until it answers something but 0, and answers that.
template <class Part>
int in_parts(const Snapshot& snapshot, Part part) {
  constexpr std::size_t kPart = 64 * 1024;
  std::string out;
  ByteWriter w(out);
  int answer = 0;
  w.varint(snapshot.number);
  w.varint(snapshot.state.size());
  snapshot.state.each_from("", [&](std::string_view key, std::string_view value) {
    w.text(key);
    w.u8(1);
    w.text(value);
    if (out.size() < kPart) return true;
    answer = part(out);
    out.clear();
    return answer == 0;
  });
  if (answer != 0) return answer;
  Changes counters;
  for (const auto& [id, value] : snapshot.counters) counters.counters.push_back({id, value});
  counters.names = snapshot.names;
  write_counters(w, counters);
  write_cursors(w, snapshot.cursors);
  return part(out);
}

std::string encode_snapshot(const Snapshot& snapshot) {
  std::string all;
  in_parts(snapshot, [&](const std::string& part) { return all += part, 0; });
  return all;
}

std::size_t snapshot_size(const Snapshot& snapshot) {
  std::size_t size = 0;
  in_parts(snapshot, [&](const std::string& part) { return size += part.size(), 0; });
  return size;
}

int write_snapshot(const Snapshot& snapshot, std::uint64_t number, std::uint64_t durable,
                   std::uint64_t segment, const std::function<int(std::string_view)>& write) {
  const std::size_t size = snapshot_size(snapshot);
  if (size > kLargestPayload) return EMSGSIZE;
  std::string header = record_header(RecordType::snapshot, number, durable, size, false);
  Checksum sum(header, segment);
  in_parts(snapshot, [&](const std::string& part) { return sum.add(part), 0; });
  ByteWriter(header).u64(sum.value());
  if (const int error = write(header)) return error;
  return in_parts(snapshot, write);
}

bool decode_snapshot(std::string_view payload, Snapshot& snapshot) {
  ByteReader r(payload);
  snapshot.number = r.varint();
  Changes all;
  read_changes(r, all, [&](std::string_view key, std::optional<std::string_view> value) {
    if (value) snapshot.state.put(key, *value);
  });
  read_cursors(r, snapshot.cursors);
  for (const CounterChange& c : all.counters) snapshot.counters[c.id] = c.change;
  snapshot.names = std::move(all.names);
  return r.ok();
}

void StateChange::apply(PackedMap& to) const {
  if (removed)
    to.erase(key);
  else
    to.put(key, value);
}

std::int64_t Snapshot::counter(const std::string& name) const {
  for (const CounterName& n : names)
    if (const auto it = counters.find(n.id); n.name == name && it != counters.end()) return it->second;
  return 0;
}

}  // namespace dingle
