// The operators and functions of value expressions (ISO/IEC 9075-2, 6.28 to 6.36), on values.
#pragma once

#include <cstdint>
#include <optional>
#include <span>
#include <string>
#include <string_view>
#include <vector>

#include "core/arena.h"
#include "core/time/zone.h"
#include "core/value.h"

namespace dingle {

enum class Function : std::uint8_t {
  add,
  subtract,
  multiply,
  divide,
  modulo,
  negate,
  concatenate,
  nullif,
  greatest,
  least,
  cast,
  substring,
  trim,
  lower,
  upper,
  position,
  char_length,
  octet_length,
  extract,
  abs,
  floor,
  ceiling,
  round
};

// What a call says beside its arguments.
struct CallDetail {
  Kind kind = Kind::absent;                                                      // cast: to what
  enum class Side : std::uint8_t { both, leading, trailing } side = Side::both;  // trim
  enum class Unit : std::uint8_t {
    year,
    quarter,
    month,
    week,
    day,
    hour,
    minute,
    second,
    epoch,
    dow,
    isodow,
    doy
  } unit = Unit::year;  // extract
  Zone zone;            // extract: of the moment's local time
};

// Those that are written as name(argument, ...), with how many arguments they take.
struct NamedFunction {
  std::string_view name;
  Function function;
  std::size_t least, most;
};
std::span<const NamedFunction> named_functions();
std::optional<CallDetail::Unit> extract_unit(std::string_view name);
const std::vector<std::string>& extract_units();

inline constexpr std::size_t kLongestMadeText = std::size_t{1} << 20;  // bytes

// Made texts lie in `arena`. Absent if an argument that counts is absent, and where there is no value; then `fault` says why:
// a constant text that holds nothing of the arguments.
Value call(Function function, std::span<const Value> arguments, const CallDetail& detail, Arena& arena,
           std::string_view& fault);
// What it answers, if that is always of one kind; else absent.
Kind result_kind(Function function, const CallDetail& detail);

}  // namespace dingle
