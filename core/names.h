// Interned field names: a name is stored once for the life of the process and then handled as a number.
//
// The table is bounded (kMostNames), since names can come from foreign data such as JSON keys. When it is
// full, `field_id` answers kNoField; whoever adds fields counts what it could not name.
// Thread-safe. A look-up of a known name costs some ten nanoseconds (a small cache per thread).
#pragma once

#include <cstdint>
#include <string_view>

namespace dingle {

using FieldId = std::uint32_t;

inline constexpr FieldId kNoField = 0;
inline constexpr FieldId kMostNames = 65536;
inline constexpr std::size_t kLongestName = 256;  // bytes; longer names answer kNoField

FieldId field_id(std::string_view name);
std::string_view field_name(FieldId id);  // valid for the life of the process

// Whether the name is a part of every event (`body`, `timestamp`, `observed_timestamp`), or is kept for what
// the program says of it (`dingle.*`): what comes with the data cannot have it.
bool belongs_to_event(std::string_view name);
// The id for a name that came with the data, such as a JSON key: with `line.` before it if the name belongs
// to the event.
FieldId foreign_field_id(std::string_view name);
inline constexpr std::string_view kForeignPrefix = "line.";

// Names that the program itself uses. `timestamp`, `observed_timestamp` and `body` are parts of every event,
// not of its list of fields; readers of events answer them by these ids all the same.
namespace names {
extern const FieldId timestamp, observed_timestamp, body, severity, severity_number;
extern const FieldId pipeline, template_number, configuration, unmatched, unmatched_column, dropped_by, step;
}  // namespace names

// The three that are parts of every event.
inline bool is_part_of_event(FieldId id) {
  return id == names::body || id == names::timestamp || id == names::observed_timestamp;
}

}  // namespace dingle
