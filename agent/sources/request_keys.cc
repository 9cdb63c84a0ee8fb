#include "agent/sources/request_keys.h"

#include <fmt/format.h>
#include <xxhash.h>

#include "core/bytes.h"

namespace dingle {

RequestKeys::RequestKeys(const Spool& spool, const std::string& source, std::size_t most,
                         std::chrono::nanoseconds age)
    : prefix_("request/" + source + "/"), most_(most), age_(age.count()) {
  for (const auto& [name, value] : spool.state_with_prefix(prefix_)) add(name, value);
}

std::string RequestKeys::name_of(const std::string& key) const {
  const XXH128_hash_t hash = XXH3_128bits(key.data(), key.size());
  return fmt::format("{}{:016x}{:016x}", prefix_, hash.high64, hash.low64);
}

void RequestKeys::add(const std::string& name, const std::string& value) {
  ByteReader r(value);
  Known known;
  known.at = r.zigzag();
  known.body = r.u64();
  known.events = r.varint();
  if (!r.ok()) return;
  known_[name] = known;
  by_time_.emplace(known.at, name);
}

RequestKeys::Found RequestKeys::begin(const std::string& key, std::uint64_t body, std::int64_t now) {
  const std::string name = name_of(key);
  std::lock_guard lock(mutex_);
  if (auto it = known_.find(name); it != known_.end() && now - it->second.at < age_)
    return {it->second.body == body ? Standing::known : Standing::other_body, it->second.events};
  return {under_way_.insert(name).second ? Standing::fresh : Standing::under_way};
}

std::vector<StateChange> RequestKeys::changes(const std::string& key, std::uint64_t body,
                                              std::uint64_t events, std::int64_t now) const {
  std::string value;
  ByteWriter w(value);
  w.zigzag(now);
  w.u64(body);
  w.varint(events);
  std::vector<StateChange> all{{name_of(key), value, false}};
  std::lock_guard lock(mutex_);
  std::size_t left = known_.size();
  for (const auto& [at, name] : by_time_) {
    if (left < most_ && now - at < age_) break;
    if (name != all[0].key) all.push_back({name, "", true});
    --left;
  }
  return all;
}

void RequestKeys::end(const std::string& key, const std::vector<StateChange>* appended) {
  std::lock_guard lock(mutex_);
  under_way_.erase(name_of(key));
  if (appended == nullptr) return;
  for (const StateChange& change : *appended) {
    if (auto it = known_.find(change.key); it != known_.end()) {
      by_time_.erase({it->second.at, change.key});
      known_.erase(it);
    }
    if (!change.removed) add(change.key, change.value);
  }
}

std::size_t RequestKeys::size() const {
  std::lock_guard lock(mutex_);
  return known_.size();
}

}  // namespace dingle
