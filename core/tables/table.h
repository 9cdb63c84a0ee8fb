// Look-up tables: rows of values by a key. Their texts come from outside (agent/tables).
//
// A table is immutable; a TableHandle is the name under which the newest one is found while the program runs.
#pragma once

#include <cstdint>
#include <map>
#include <memory>
#include <mutex>
#include <span>
#include <string>
#include <string_view>
#include <unordered_map>
#include <vector>

#include "core/arena.h"
#include "core/result.h"
#include "core/value.h"

namespace dingle {

class Table {
 public:
  enum class Match {
    exact,
    range,     // keys are addresses or ranges of them (CIDR, RFC 4632); the narrowest one counts
    domain,    // a key stands for a domain name and all below it; the longest one counts; case does not
    wildcard,  // `*` in a key stands for any text; keys without it first, then in their order
  };
  Table(Match match, std::vector<std::string> columns, std::size_t key)
      : match_(match), key_(key), columns_(std::move(columns)) {}

  // Before it is looked into. `row` has a value for each column, which is copied. False if the key is none for this table.
  // Of equal keys the last counts.
  bool add(std::string_view key, std::span<const Value> row);

  // The values of the columns, as long as the table lives; empty if there is no row. Costs a look-up by hash; for ranges one for
  // each length of prefix that there is, for domains one for each label, for wildcards a comparison with each.
  std::span<const Value> find(std::string_view key) const;
  const std::vector<std::string>& columns() const { return columns_; }
  std::vector<Value> keys() const;  // of `exact`, typed as the column is: each once, in no order
  std::size_t size() const { return rows_; }
  std::uint64_t doubled() const { return doubled_; }  // keys that came again

 private:
  struct Prefix {
    unsigned bits = 0;  // of the 128 of IPv6; IPv4 as ::ffff:a.b.c.d
    std::unordered_map<std::string, std::size_t> rows;
  };
  void put(std::unordered_map<std::string_view, std::size_t>& to, std::string_view key,
           std::span<const Value> row);
  std::span<const Value> row(std::size_t number) const {
    return {values_.data() + number * columns_.size(), columns_.size()};
  }

  Match match_;
  std::size_t key_ = 0;  // its column
  std::vector<std::string> columns_;
  Arena arena_;
  std::vector<Value> values_;
  std::size_t rows_ = 0;
  std::uint64_t doubled_ = 0;
  std::unordered_map<std::string_view, std::size_t> exact_;
  std::vector<Prefix> prefixes_;  // the longest first
  std::vector<std::pair<std::string, std::size_t>> globs_;
};

// Thread-safe.
class TableHandle {
 public:
  explicit TableHandle(std::string name) : name_(std::move(name)) {}
  const std::string& name() const { return name_; }
  std::shared_ptr<const Table> now() const {
    const std::lock_guard lock(mutex_);
    return table_;
  }
  void put(std::shared_ptr<const Table> table) {
    const std::lock_guard lock(mutex_);
    table_.swap(table);
  }

 private:
  const std::string name_;
  mutable std::mutex mutex_;
  std::shared_ptr<const Table> table_;  // nullptr until the first one was read
};
using Tables = std::map<std::string, std::shared_ptr<TableHandle>, std::less<>>;

// While it lives, what the thread parses may name these tables.
class TableScope {
 public:
  explicit TableScope(const Tables& tables);
  ~TableScope();
  TableScope(const TableScope&) = delete;
  TableScope& operator=(const TableScope&) = delete;
  // The table of that name, or a problem with the nearest one.
  static Result<std::shared_ptr<TableHandle>> find(std::string_view name);

 private:
  const Tables* before_;
};

}  // namespace dingle
