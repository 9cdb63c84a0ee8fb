// Idempotency keys that clients gave (draft-ietf-httpapi-idempotency-key-header): which requests are there.
//
// A key becomes durable together with the events of its request, as a part of the spool's state. Memory and
// state: about 100 bytes a key.
#pragma once

#include <chrono>
#include <cstdint>
#include <deque>
#include <map>
#include <mutex>
#include <set>
#include <string>
#include <string_view>

#include "spool/spool.h"

namespace dingle {

// Thread-safe.
class RequestKeys {
 public:
  // Knows at most `most` keys, none longer than `age`. Reads what the spool has of them for the source.
  RequestKeys(const Spool& spool, const std::string& source, std::size_t most, std::chrono::nanoseconds age);

  enum class Standing { fresh, under_way, known, other_body };
  struct Found {
    Standing standing = Standing::fresh;
    std::uint64_t events = 0;  // known: that the request brought
  };
  // Whether the key is known at `now` (ns since 1970), with a body of that hash. A fresh one is under way
  // from then on, until `end`.
  Found begin(const std::string& key, std::uint64_t body, std::int64_t now);
  // What to append with the request's events, so that it is known later, and others are forgotten.
  std::vector<StateChange> changes(const std::string& key, std::uint64_t body, std::uint64_t events,
                                   std::int64_t now) const;
  // Ends what `begin` began. With the changes, if they were appended.
  void end(const std::string& key, const std::vector<StateChange>* appended);
  std::size_t size() const;

 private:
  struct Known {
    std::int64_t at = 0;
    std::uint64_t body = 0, events = 0;
  };
  std::string name_of(const std::string& key) const;
  void add(const std::string& name, const std::string& value);

  const std::string prefix_;
  const std::size_t most_;
  const std::int64_t age_;
  mutable std::mutex mutex_;
  std::map<std::string, Known> known_;                      // by the name in the state
  std::set<std::pair<std::int64_t, std::string>> by_time_;  // the oldest first
  std::set<std::string> under_way_;
};

}  // namespace dingle
