// Giving up the oldest of what waits. Which records were given up is state of the spool, so that they stay
// given up after a crash: key `shed/ID`, value n times { varint first, varint last }.
#include <zstd.h>

#include <algorithm>

#include "core/bytes.h"
#include "spool/spool.h"

namespace dingle {
namespace {

std::string key_of(std::uint32_t destination) { return "shed/" + std::to_string(destination); }

}  // namespace

std::uint64_t Spool::shed_oldest(std::uint32_t destination, std::uint64_t most_bytes, std::int64_t oldest,
                                 const std::string& counter) {
  std::lock_guard lock(mutex_);
  auto found = destinations_.find(destination);
  if (found == destinations_.end()) return 0;
  Destination& d = found->second;
  const std::uint64_t behind = std::max(d.cursor.number, d.in_hand);
  auto entry = std::upper_bound(entries_.begin(), entries_.end(), behind,
                                [](std::uint64_t n, const Entry& e) { return n < e.number; });
  std::uint64_t events = 0, bytes = d.bytes, first = 0, last = 0;
  for (; entry != entries_.end() && (bytes > most_bytes || entry->appended_at < oldest); ++entry)
    for (auto [id, n] : entry->destinations)
      if (id == destination) {
        events += n;
        bytes -= std::min<std::uint64_t>(bytes, entry->size);
        if (first == 0) first = entry->number;
        last = entry->number;
      }
  if (events == 0) return 0;
  auto ranges = d.shed;
  if (!ranges.empty() && ranges.back().second >= behind)
    ranges.back().second = last;
  else
    ranges.emplace_back(first, last);
  std::string value;
  ByteWriter w(value);
  for (auto [from, to] : ranges) {
    w.varint(from);
    w.varint(to);
  }
  if (write_note({{{key_of(destination), value, false}},
                  {{counters_.id(counter), static_cast<std::int64_t>(events)}}}) != 0)
    return 0;
  d.shed = std::move(ranges);
  apply_shed(destination, d);
  return events;
}

// Takes the destination out of the records that it gave up, and counts them as passed.
void Spool::apply_shed(std::uint32_t destination, Destination& d) {
  for (auto [from, to] : d.shed) {
    auto entry = std::lower_bound(entries_.begin(), entries_.end(), std::max(from, d.cursor.number + 1),
                                  [](const Entry& e, std::uint64_t n) { return e.number < n; });
    for (; entry != entries_.end() && entry->number <= to; ++entry)
      std::erase_if(entry->destinations, [&](const std::pair<std::uint32_t, std::uint32_t>& to_one) {
        if (to_one.first != destination) return false;
        d.cursor.passed += to_one.second;
        d.bytes -= std::min<std::uint64_t>(d.bytes, entry->size);
        return true;
      });
  }
  cursors_changed_ = true;
}

// Forgets ranges that the cursor is past.
void Spool::forget_shed(std::uint32_t destination, Destination& d) {
  if (d.shed.empty() || d.shed.back().second > d.cursor.number) return;
  d.shed.clear();
  const StateChange gone{key_of(destination), "", true};
  apply({{gone}, {}});
  unsaved_.state.push_back(gone);
}

void Spool::recover_shed() {
  for (auto& [id, d] : destinations_) {
    auto it = state_.find(key_of(id));
    if (it == state_.end()) continue;
    ByteReader r(it->second);
    while (!r.at_end() && r.ok()) {
      const std::uint64_t from = r.varint();
      d.shed.emplace_back(from, r.varint());
    }
    if (!r.ok()) d.shed.clear();
    const std::uint64_t passed = d.cursor.passed;
    apply_shed(id, d);
    d.cursor.passed = passed;  // counted by what is really there
  }
}

// ---- compression

std::string compress_events(std::string_view events) {
  std::string out(ZSTD_compressBound(events.size()), '\0');
  out.resize(ZSTD_compress(out.data(), out.size(), events.data(), events.size(), 1));
  return out;
}

std::string decompress_events(std::string_view frame) {
  const unsigned long long size = ZSTD_getFrameContentSize(frame.data(), frame.size());
  if (size == ZSTD_CONTENTSIZE_ERROR || size == ZSTD_CONTENTSIZE_UNKNOWN || size > kLargestPayload) return "";
  // What the frame says of its size is believed as far as bytes come.
  ZSTD_DCtx* const context = ZSTD_createDCtx();
  std::string out;
  ZSTD_inBuffer in{frame.data(), frame.size(), 0};
  std::size_t left = 1;
  for (std::size_t have = 0; context != nullptr && left != 0;) {
    out.resize(std::min<std::size_t>(size, std::max<std::size_t>({2 * have, 8 * frame.size(), 64 * 1024})));
    ZSTD_outBuffer to{out.data(), out.size(), have};
    left = ZSTD_decompressStream(context, &to, &in);
    if (ZSTD_isError(left) || (to.pos == have && in.pos == in.size && left != 0)) break;
    if (to.pos == have && have == size && left != 0) break;  // more than it said
    have = to.pos;
  }
  ZSTD_freeDCtx(context);
  return left != 0 || in.pos != in.size || out.size() != size ? "" : out;
}

}  // namespace dingle
