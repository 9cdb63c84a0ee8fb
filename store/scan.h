// Walking through the blocks of stores: what all questions to them have in common.
#pragma once

#include <functional>
#include <string>
#include <vector>

#include "store/search.h"

namespace dingle {

struct Searched {
  std::string name, path;
};
// The indexes that the query names; those with the newest events first.
std::vector<Searched> newest_first(const std::vector<const Store*>& stores, const Query& query);

// Events that are left out, since their block cannot be read. Of one index it is told once.
void tell_damage(const std::string& index, std::uint64_t events, Scanned& scanned);

// Indexes that the query asks for and that are gone: whatever is found is not all.
void tell_missing(const std::vector<const Store*>& stores, const Query& query, Scanned& scanned);

using SkipBlock = std::function<bool(const IndexReader::BlockInfo&)>;

// Calls `visit(index, info, block)` for every block that may hold something of the query, until it answers false; `skip` true leaves a
// block out. Indexes come newest first, and blocks within them (or the oldest first, where the query says so).
void scan_blocks(const std::vector<const Store*>& stores, const Query& query, Scanned& scanned,
                 const SkipBlock& skip,
                 const std::function<bool(const std::string&, const IndexReader::BlockInfo&, Block&)>& visit);

// Calls `visit(index, block, row)` for every event of the stores that satisfies the query.
void scan(const std::vector<const Store*>& stores, const Query& query, Scanned& scanned,
          const SkipBlock& skip, const std::function<void(const std::string&, Block&, std::size_t)>& visit);

// The same by several threads at once: each calls what `make` makes for it, in no order of events. `make` is called by the caller's
// thread. Blocks are read by one at a time, and taken apart by all.
struct Visitor {
  std::function<void(Block&, std::size_t)> event;
  // Asked first for a block all of whose events satisfy the query: whether it took them all. May be empty.
  std::function<bool(const IndexReader::BlockInfo&, Block&)> block = nullptr;
};
inline constexpr unsigned kScanThreads = 2;
void scan_in_parallel(const std::vector<const Store*>& stores, const Query& query, Scanned& scanned,
                      unsigned threads, const std::function<Visitor()>& make);

}  // namespace dingle
