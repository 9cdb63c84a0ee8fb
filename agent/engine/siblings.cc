#include "agent/engine/siblings.h"

#include <xxhash.h>

#include <map>
#include <vector>

#include "store/scan.h"

namespace dingle {
namespace {

std::uint64_t key(std::uint64_t stream, std::uint64_t position, std::string_view pipeline) {
  const std::uint64_t place[] = {stream, position};
  return XXH3_64bits_withSeed(place, sizeof place, XXH3_64bits(pipeline.data(), pipeline.size()));
}

}  // namespace

bool Siblings::has(const Store& store, const SpooledEvent& stored) {
  if (!several_) look(store);
  return several_->count(key(stored.stream, stored.position, stored.pipeline)) != 0;
}

// Those of which there may be several, by some bits of a hash; then those of which there are.
void Siblings::look(const Store& store) {
  std::vector<bool> seen(1u << 27), twice(1u << 27);
  std::map<std::uint64_t, bool> several;
  std::vector<EventOrigin> origins;
  for (const bool exactly : {false, true}) {
    Scanned scanned;
    scan_blocks(
        {&store}, Query(), scanned, [](const auto&) { return false; },
        [&](const std::string&, const IndexReader::BlockInfo&, Block& block) {
          block.origins(origins);
          for (std::size_t row = 0; row < origins.size(); ++row) {
            block.select(row);
            const Value pipeline = block.get(names::pipeline);
            const std::uint64_t k = key(origins[row].stream, origins[row].position,
                                        pipeline.is_textual() ? pipeline.as_text() : "");
            const std::size_t bit = k % seen.size();
            if (!exactly)
              twice[bit] = twice[bit] || seen[bit], seen[bit] = true;
            else if (twice[bit])
              if (const auto [it, first] = several.try_emplace(k, false); !first) it->second = true;
          }
          return true;
        });
  }
  several_.emplace();
  for (const auto& [k, is] : several)
    if (is) several_->insert(k);
}

}  // namespace dingle
