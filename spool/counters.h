// Counters by number: a name is known once, in the log, and what changes a counter carries its number. No lock of its own.
#pragma once

#include <cstdint>
#include <map>
#include <string>
#include <unordered_map>
#include <vector>

#include "spool/format.h"

namespace dingle {

class Counters {
 public:
  // The number of the counter with this name, which is made if there is none. Its name is then among `news` until a record
  // carries it.
  CounterId id(const std::string& name);
  void add(const CounterChange& change);
  std::int64_t value(const std::string& name) const;
  std::map<std::string, std::int64_t> all() const;  // those that are not 0

  // Forgets those whose name begins so, but goes on where `kept` holds for it. Whoever has their numbers must not use them any more.
  void forget(const std::string& prefix, const std::string& kept);

  // Names of those whose own were lost with the records that told them; by numbers, which somebody kept. How many there were.
  std::size_t name(const std::vector<CounterName>& kept);
  std::vector<CounterName> names() const;

  // What a log says of them.
  void apply(const std::vector<CounterName>& names);
  void restore(std::vector<CounterName> names, const std::map<CounterId, std::int64_t>& values);
  void write(Snapshot& snapshot) const;

  const std::vector<CounterName>& news() const { return news_; }
  void told() { news_.clear(); }

 private:
  struct Counter {
    std::string name;
    std::int64_t value = 0;
  };
  std::unordered_map<CounterId, Counter> counters_;
  std::map<std::string, CounterId> ids_;
  std::vector<CounterName> news_;
  CounterId next_ = 1;
};

}  // namespace dingle
