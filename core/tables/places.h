// Databases of places: what is known of an address, as a tree of maps and lists.
#pragma once

#include "core/tables/table.h"

namespace dingle {

class PlaceTable : public Table {
 public:
  // The way to a value: names of members, and numbers of items (from 0).
  using Path = std::vector<std::string>;

  // The values at the ends of these paths, in their order, absent where there is none; texts live as long as the table. Empty if
  // nothing is known of the address, or if it is none. Thread-safe. Costs a walk of the address's bits, and of each path.
  virtual std::span<const Value> find(std::string_view address, std::span<const Path> paths,
                                      Found& found) const = 0;
  // Those that there are, joined by dots, as far as the first records tell.
  virtual const std::vector<std::string>& known_paths() const = 0;

  std::span<const Value> find(std::string_view, Found&) const override { return {}; }
  const std::vector<std::string>& columns() const override {
    static const std::vector<std::string> none;
    return none;
  }
  void each_key(const std::function<bool(const Value&)>&) const override {}
  const PlaceTable* places() const override { return this; }
};

}  // namespace dingle
