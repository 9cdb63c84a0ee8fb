// A table of rows that were read from somewhere, looked up by their key.
#pragma once

#include <string>
#include <unordered_map>

#include "core/arena.h"
#include "core/tables/table.h"

namespace dingle {

// Immutable once rows were added.
class RowTable final : public Table {
 public:
  enum class Match {
    exact,
    range,     // keys are addresses or ranges of them (CIDR, RFC 4632); the narrowest one counts
    domain,    // a key stands for a domain name and all below it; the longest one counts; case does not
    wildcard,  // `*` in a key stands for any text; keys without it first, then in their order
  };
  RowTable(Match match, std::vector<std::string> columns, std::size_t key)
      : match_(match), key_(key), columns_(std::move(columns)) {}

  // Before it is looked into. `row` has a value for each column, which is copied. False if the key is none for this table.
  // Of equal keys the last counts.
  bool add(std::string_view key, std::span<const Value> row);

  // The row itself. Costs a look-up by hash; for ranges one for each length of prefix that there is, for domains one for each
  // label, for wildcards a comparison with each.
  std::span<const Value> find(std::string_view key, Found& found) const override;
  const std::vector<std::string>& columns() const override { return columns_; }
  void each_key(const std::function<bool(const Value&)>& to) const override;
  std::size_t size() const override { return rows_; }
  std::uint64_t doubled() const override { return doubled_; }

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

}  // namespace dingle
