#include "store/around.h"

#include <algorithm>
#include <set>
#include <unordered_map>

#include "core/names.h"
#include "core/time/instant.h"
#include "spool/events.h"
#include "store/scan.h"

namespace dingle {
namespace {

constexpr std::size_t kMostStreams = 100'000;  // that are told apart

bool reads_all(const IndexReader::BlockInfo&) { return false; }

FieldId path_field() {
  static const FieldId path = field_id("log.file.path");
  return path;
}

struct Found {
  EventOrigin origin;
  EventPlace place;
  std::string source, path;
};

// Where events of several streams stand: streams by their rank.
struct Place {
  std::size_t rank = 0;
  EventOrigin origin;
  friend auto operator<=>(const Place&, const Place&) = default;
};

std::optional<Found> find(const std::vector<const Store*>& stores, const Query& query, EventKey id,
                          Scanned& scanned) {
  Query all = query;
  all.where = Condition();
  std::optional<Found> found;
  std::vector<EventOrigin> origins;
  scan_blocks(stores, all, scanned, reads_all,
              [&](const std::string&, const IndexReader::BlockInfo&, Block& block) {
                block.origins(origins);
                scanned.events += origins.size();
                for (std::size_t row = 0; row < origins.size(); ++row) {
                  const EventOrigin& o = origins[row];
                  if (event_key(o.stream, o.position, o.branch) != id) continue;
                  block.select(row);
                  found = {o, {block.timestamp(row), block.order(row)}, "", ""};
                  if (const Value v = block.get(names::source); v.is_textual()) found->source = v.as_text();
                  if (const Value v = block.get(path_field()); v.is_textual()) found->path = v.as_text();
                  return false;
                }
                return true;
              });
  return found;
}

// The streams that were read under a path which the event's own stream had too, in the order in which they were read.
std::unordered_map<std::uint64_t, std::size_t> ranks_of(const std::vector<const Store*>& stores,
                                                        const Query& query, const Found& found,
                                                        Scanned& scanned) {
  constexpr std::size_t kMostPaths = 8;  // of one stream: each time that it is rotated it may get another
  struct Stream {
    EventOrder first;
    std::vector<std::string> paths;
  };
  std::unordered_map<std::uint64_t, Stream> streams;
  Query all = query;
  all.where = Condition();
  std::vector<EventOrigin> origins;
  scan_blocks(
      stores, all, scanned, reads_all, [&](const std::string&, const IndexReader::BlockInfo&, Block& block) {
        block.origins(origins);
        Stream* stream = nullptr;
        std::string_view last_path;
        const Block::Values paths(block, path_field()), sources(block, names::source);
        for (std::size_t row = 0; row < origins.size(); ++row) {
          const Value path = paths.at(row);
          if (!path.is_textual()) continue;
          const bool same = row != 0 && origins[row].stream == origins[row - 1].stream;
          if (!same || path.as_text() != last_path) {
            const Value source = sources.at(row);
            stream = nullptr;
            last_path = path.as_text();
            if (!source.is_textual() || source.as_text() != found.source ||
                block.order(row).spool != found.place.order.spool)
              continue;
            const auto it = streams.find(origins[row].stream);
            if (it == streams.end() && streams.size() == kMostStreams) continue;
            stream = it == streams.end()
                         ? &streams.emplace(origins[row].stream, Stream{block.order(row), {}}).first->second
                         : &it->second;
            if (stream->paths.size() < kMostPaths &&
                std::find(stream->paths.begin(), stream->paths.end(), last_path) == stream->paths.end())
              stream->paths.emplace_back(last_path);
          }
          if (stream != nullptr) stream->first = std::min(stream->first, block.order(row));
        }
        return true;
      });
  std::unordered_map<std::uint64_t, std::size_t> ranks;
  const auto own = streams.find(found.origin.stream);
  if (own == streams.end()) return ranks;
  std::vector<std::pair<EventOrder, std::uint64_t>> sorted;
  for (const auto& [id, stream] : streams)
    if (std::find_first_of(stream.paths.begin(), stream.paths.end(), own->second.paths.begin(),
                           own->second.paths.end()) != stream.paths.end())
      sorted.emplace_back(stream.first, id);
  std::sort(sorted.begin(), sorted.end());
  for (std::size_t i = 0; i < sorted.size(); ++i) ranks.emplace(sorted[i].second, i);
  return ranks;
}

// The nearest of the streams that have ranks, by their places.
using Nearest = std::map<Place, EventPlace>;
Nearest nearest(const std::vector<const Store*>& stores, const Query& query, const Found& found,
                std::size_t lines, const std::unordered_map<std::uint64_t, std::size_t>& ranks,
                Scanned& scanned) {
  const auto own_rank = ranks.find(found.origin.stream);
  const Place own{own_rank == ranks.end() ? 0 : own_rank->second, found.origin};
  Nearest before, behind;
  // Whether none of a block's events can be among the nearest, as far as its directory says.
  const auto is_far = [&](const Block& block) {
    const auto bounds = block.origin_bounds();
    if (!bounds || bounds->first.stream != bounds->second.stream) return false;
    const auto rank = ranks.find(bounds->first.stream);
    if (rank == ranks.end()) return true;
    const Place first{rank->second, bounds->first};
    Place last{rank->second, bounds->second};
    last.origin.branch = std::numeric_limits<std::uint64_t>::max();
    return (own < first || (before.size() == lines && last < before.begin()->first)) &&
           (last < own || (behind.size() == lines && std::prev(behind.end())->first < first));
  };
  std::vector<EventOrigin> origins;
  const auto look = [&](const std::string&, const IndexReader::BlockInfo&, Block& block) {
    if (lines == 0) return false;
    if (is_far(block)) return true;
    block.origins(origins);
    auto rank = ranks.end();
    for (std::size_t row = 0; row < origins.size(); ++row) {
      if (row == 0 || origins[row].stream != origins[row - 1].stream) rank = ranks.find(origins[row].stream);
      if (rank == ranks.end()) continue;
      const Place place{rank->second, origins[row]};
      if (place == own) continue;
      Nearest& side = place < own ? before : behind;
      const bool full = side.size() == lines;
      if (full && (place < own ? place < before.begin()->first : std::prev(behind.end())->first < place))
        continue;
      block.select(row);
      const EventPlace at{block.timestamp(row), block.order(row)};
      if (!query.in_time(at.timestamp) || !query.where.holds(block)) continue;
      if (at.order.spool != found.place.order.spool || !side.emplace(place, at).second || !full) continue;
      side.erase(place < own ? side.begin() : std::prev(side.end()));
    }
    return true;
  };
  // Near its own time first: once there are enough, most other blocks are far.
  for (const std::int64_t width : {kSecond, 60 * kSecond, 3600 * kSecond, 86'400 * kSecond}) {
    if (before.size() == lines && behind.size() == lines) break;
    Query near = query;
    std::int64_t from = 0, to = 0;
    if (!__builtin_sub_overflow(found.place.timestamp, width, &from)) near.from = std::max(from, query.from);
    if (!__builtin_add_overflow(found.place.timestamp, width, &to)) near.to = std::min(to, query.to);
    scan_blocks(stores, near, scanned, reads_all, look);
  }
  scan_blocks(stores, query, scanned, reads_all, look);
  before.emplace(own, found.place);
  before.merge(behind);
  return before;
}

}  // namespace

std::optional<Around> find_around(const std::vector<const Store*>& stores, const Query& query, EventKey id,
                                  std::size_t lines,
                                  const std::function<void(const StoredEvent&, std::string&)>& write,
                                  Scanned& scanned) {
  lines = std::min(lines, kMostNeighbours);
  const auto found = find(stores, query, id, scanned);
  if (!found) return std::nullopt;
  Nearest all = nearest(stores, query, *found, lines, {{found->origin.stream, 0}}, scanned);
  if (!found->path.empty() && all.size() < 2 * lines + 1)
    if (const auto ranks = ranks_of(stores, query, *found, scanned); ranks.size() > 1)
      all = nearest(stores, query, *found, lines, ranks, scanned);
  // Their texts, from their own time alone.
  Query of_these = query;
  of_these.where = Condition();
  of_these.from = found->place.timestamp;
  std::int64_t last = of_these.from;
  std::map<EventOrder, const Place*> wanted;
  for (const auto& [place, at] : all) {
    wanted.emplace(at.order, &place);
    of_these.from = std::min(of_these.from, at.timestamp);
    last = std::max(last, at.timestamp);
  }
  of_these.to = last == std::numeric_limits<std::int64_t>::max() ? last : last + 1;
  std::map<Place, FoundEvent> texts;
  std::vector<Field> fields, more;
  scan(stores, of_these, scanned, reads_all, [&](const std::string& index, Block& block, std::size_t row) {
    const auto it = wanted.find(block.order(row));
    if (it == wanted.end()) return;
    const auto [text, added] = texts.try_emplace(*it->second);
    if (!added) return;  // it went to several destinations
    text->second = {block.timestamp(row), it->first, index, ""};
    write(block.event(row, fields, more), text->second.json);
  });
  Around around;
  for (auto& [place, event] : texts) {
    if (event.place() == found->place) around.at = around.events.size();
    around.events.push_back(std::move(event));
  }
  scanned.matched = around.events.size();
  return around;
}

}  // namespace dingle
