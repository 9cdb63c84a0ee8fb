#include "store/scan.h"

#include <algorithm>
#include <atomic>
#include <thread>

#include "store/bloom.h"

namespace dingle {
namespace {

std::vector<std::uint64_t> words_of(const Query& query) {
  std::vector<std::uint64_t> words;
  for (const std::string& word : query.where.required_words()) words.push_back(word_hash(word));
  return words;
}

// The block, unless nothing of it can satisfy the query.
std::unique_ptr<Block> open_wanted(IndexReader& reader, const std::string& index, std::int64_t id,
                                   std::uint64_t count, const std::vector<std::uint64_t>& words,
                                   const Query& query, Scanned& scanned) {
  if (!words.empty()) {
    const std::string filter = reader.filter(id);
    const auto bits = bloom_bits(filter);
    if (!bits) {
      scanned.problems.push_back("index " + index +
                                 ": a block's filter of words is damaged; all of it is read");
    } else if (!std::all_of(words.begin(), words.end(),
                            [&](std::uint64_t word) { return bloom_may_have(*bits, word); })) {
      ++scanned.blocks_left_out;
      return nullptr;
    }
  }
  auto block = reader.open(id);
  if (!block) {
    tell_damage(index, count, scanned);
  } else if (!block->may_satisfy(query.where.bounds()) ||
             (!words.empty() && !block->may_mention(query.where.required_words()))) {
    ++scanned.blocks_left_out;
    block.reset();
  }
  return block;
}

// Visits the events of a block that satisfy the query; `backwards`: the last one first.
template <class Visit>
void each_event(const IndexReader::BlockInfo& info, Block& block, const Query& query, bool backwards,
                Scanned& scanned, Visit&& visit) {
  const bool all_in_time = query.covers(info.first, info.last);
  for (std::size_t i = 0; i < block.count(); ++i) {
    const std::size_t row = backwards ? block.count() - 1 - i : i;
    try {
      if (all_in_time || query.in_time(block.timestamp(row))) {
        block.select(row);
        if (!query.is_conditional() || query.where.holds(block)) {
          visit(row);
          ++scanned.matched;
        }
      }
    } catch (const DamagedBlock&) {  // what was visited before did not need what cannot be read
      scanned.damaged += block.count() - i;
      throw;
    }
    ++scanned.events;
  }
}

void add(Scanned& to, const Scanned& more) {
  to.blocks += more.blocks;
  to.blocks_left_out += more.blocks_left_out;
  to.events += more.events;
  to.matched += more.matched;
  to.damaged += more.damaged;
  to.stopped = to.stopped || more.stopped;
  to.unread = to.unread || more.unread;
  to.problems.insert(to.problems.end(), more.problems.begin(), more.problems.end());
}

}  // namespace

void tell_damage(const std::string& index, std::uint64_t events, Scanned& scanned) {
  scanned.damaged += events;
  const std::string text = "index " + index + ": blocks are damaged; their events are left out";
  if (std::find(scanned.problems.begin(), scanned.problems.end(), text) == scanned.problems.end())
    scanned.problems.push_back(text);
}

namespace {
bool is_asked_for(const Query& query, const std::string& index) {
  return query.indexes.empty() ||
         std::any_of(query.indexes.begin(), query.indexes.end(),
                     [&](const std::string& glob) { return matches_glob(index, glob); });
}
}  // namespace

void tell_missing(const std::vector<const Store*>& stores, const Query& query, Scanned& scanned) {
  for (const Store* store : stores)
    for (const std::string& name : store->missing()) {
      if (!is_asked_for(query, name)) continue;
      scanned.unread = true;
      scanned.problems.push_back(
          "index " + name +
          ": its file is gone: what it held is missing here (put it back, or give it up: "
          "dingle indexes delete " +
          name + ")");
    }
}

std::vector<Searched> newest_first(const std::vector<const Store*>& stores, const Query& query) {
  std::vector<std::pair<std::int64_t, Searched>> all;
  for (const Store* store : stores)
    for (const std::string& name : store->names())
      if (is_asked_for(query, name)) all.push_back({0, {name, store->path_of(name)}});
  if (all.size() > 1) {
    for (auto& [last, index] : all) {
      try {
        last = newest_event(index.path);
      } catch (const SqliteError&) {  // the reader will say what is wrong with it
      }
    }
    std::stable_sort(all.begin(), all.end(), [](const auto& a, const auto& b) { return a.first > b.first; });
  }
  std::vector<Searched> sorted;
  for (auto& [last, index] : all) sorted.push_back(std::move(index));
  return sorted;
}

void scan_blocks(
    const std::vector<const Store*>& stores, const Query& query, Scanned& scanned, const SkipBlock& skip,
    const std::function<bool(const std::string&, const IndexReader::BlockInfo&, Block&)>& visit) {
  const std::vector<std::uint64_t> words = words_of(query);
  if (query.from >= query.to) return;
  tell_missing(stores, query, scanned);
  std::vector<Searched> indexes = newest_first(stores, query);
  if (query.oldest) std::reverse(indexes.begin(), indexes.end());
  for (const auto& [name, path] : indexes) {
    ++scanned.indexes;
    try {
      IndexReader reader(path);
      reader.begin();
      auto blocks = reader.blocks(query.from, query.has_no_end() ? query.to : query.to - 1);
      if (query.oldest) std::reverse(blocks.begin(), blocks.end());
      for (const IndexReader::BlockInfo& info : blocks) {
        if (query.is_over()) {
          scanned.stopped = true;
          return;
        }
        ++scanned.blocks;
        if (skip(info)) {
          ++scanned.blocks_left_out;
          continue;
        }
        const std::uint64_t damaged = scanned.damaged;
        try {
          const auto block = open_wanted(reader, name, info.id, info.count, words, query, scanned);
          if (block && !visit(name, info, *block)) return;
        } catch (const DamagedBlock&) {
          tell_damage(name, scanned.damaged == damaged ? info.count : 0, scanned);
        }
      }
      reader.end();
    } catch (const SqliteError& error) {
      scanned.unread = true;
      scanned.problems.push_back("index " + name + ": " + error.what());
    }
  }
}

void scan(const std::vector<const Store*>& stores, const Query& query, Scanned& scanned,
          const SkipBlock& skip, const std::function<void(const std::string&, Block&, std::size_t)>& visit) {
  scan_blocks(stores, query, scanned, skip,
              [&](const std::string& name, const IndexReader::BlockInfo& info, Block& block) {
                // What comes first in the answer stands last, as a rule.
                each_event(info, block, query, !query.oldest, scanned,
                           [&](std::size_t row) { visit(name, block, row); });
                return true;
              });
}

void scan_in_parallel(const std::vector<const Store*>& stores, const Query& query, Scanned& scanned,
                      unsigned threads, const std::function<Visitor()>& make) {
  constexpr std::size_t kFewBlocks = 8;  // for which another thread is not worth while
  if (query.from >= query.to) return;
  const std::vector<std::uint64_t> words = words_of(query);
  tell_missing(stores, query, scanned);
  std::vector<Visitor> visits{make()};
  for (const Searched& index : newest_first(stores, query)) {
    const std::string& name = index.name;
    ++scanned.indexes;
    if (scanned.stopped) return;
    try {
      IndexReader reader(index.path);
      reader.begin();
      const auto blocks = reader.blocks(query.from, query.has_no_end() ? query.to : query.to - 1);
      const std::size_t workers = blocks.size() <= kFewBlocks ? 1 : std::max(1u, threads);
      while (visits.size() < workers) visits.push_back(make());
      std::atomic<std::size_t> next{0};
      std::vector<Scanned> of_workers(workers);
      const auto visit_block = [&](const IndexReader::BlockInfo& info, const Visitor& visitor, Scanned& own) {
        const auto block = open_wanted(reader, name, info.id, info.count, words, query, own);
        if (!block) return;
        if (!visitor.block || query.is_conditional() || !query.covers(info.first, info.last) ||
            !visitor.block(info, *block))
          return each_event(info, *block, query, false, own,
                            [&](std::size_t row) { visitor.event(*block, row); });
        own.events += block->count();
        own.matched += block->count();
      };
      const auto work = [&](std::size_t w) {
        Scanned& own = of_workers[w];
        try {
          for (std::size_t at; (at = next++) < blocks.size();) {
            if (query.is_over()) {
              own.stopped = true;
              return;
            }
            ++own.blocks;
            const std::uint64_t damaged = own.damaged;
            try {
              visit_block(blocks[at], visits[w], own);
            } catch (const DamagedBlock&) {
              tell_damage(name, own.damaged == damaged ? blocks[at].count : 0, own);
            }
          }
        } catch (const SqliteError& error) {
          own.unread = true;
          own.problems.push_back("index " + name + ": " + error.what());
          next = blocks.size();
        }
      };
      std::vector<std::thread> others;
      for (std::size_t w = 1; w < workers; ++w) others.emplace_back(work, w);
      work(0);
      for (std::thread& t : others) t.join();
      for (const Scanned& own : of_workers) add(scanned, own);
      reader.end();
    } catch (const SqliteError& error) {
      scanned.unread = true;
      scanned.problems.push_back("index " + name + ": " + error.what());
    }
  }
}

}  // namespace dingle
