// Names of fields. A name is stored once where it is used, and then handled by its place in memory.
//
// Names of the program, of configurations and of queries are interned for ever (`field_id`): there are as many as somebody
// wrote. Names that come with data, such as JSON keys, may be as many as there are events: each batch of work, delivery or
// block has a dictionary of its own for them, which goes with it. In a dictionary, too, a name that is interned has its lasting
// id; so conditions and steps find it, and within one dictionary two ids are equal if, and only if, their texts are.
// Whoever wants to find a field by its name interns the name before events are read: what was read before keeps the id that it has.
#pragma once

#include <atomic>
#include <cstdint>
#include <deque>
#include <string>
#include <string_view>
#include <unordered_map>

namespace dingle {

struct FieldName {
  std::string text;
  bool lasting = false;  // for the life of the process
};
using FieldId = const FieldName*;

inline constexpr FieldId kNoField = nullptr;
inline constexpr std::size_t kMostNames = 1u << 20;  // that are interned
inline constexpr std::size_t kLongestName = 256;     // bytes; longer names answer kNoField

// The lasting id; kNoField beyond kMostNames. Thread-safe. A look-up of a known name costs some ten nanoseconds.
FieldId field_id(std::string_view name);
inline std::string_view field_name(FieldId id) {
  return id ? std::string_view(id->text) : std::string_view();
}
// One of 64 bits, to see quickly that a name is not among some others.
inline std::uint64_t bit_of(FieldId id) {
  return std::uint64_t{1} << (reinterpret_cast<std::uintptr_t>(id) / sizeof(FieldName) & 63);
}

// Not thread-safe. Its ids hold until it is cleared or destroyed.
class NameDictionary {
 public:
  FieldId id(std::string_view name);  // kNoField for an empty name, and one that is too long
  // The id for a name that came with the data, such as a JSON key: with `line.` before it if the name belongs to the event.
  FieldId foreign_id(std::string_view name);
  void clear();
  // Another one after each `clear`, and for each dictionary.
  std::uint64_t serial() const { return serial_; }

 private:
  static std::uint64_t next_serial();
  std::deque<FieldName> names_;  // its strings never move
  std::unordered_map<std::string_view, FieldId> ids_;
  std::uint64_t serial_ = next_serial();
};

// Whether the name is a part of every event (`body`, `timestamp`, `observed_timestamp`), or is kept for what
// the program says of it (`dingle.*`): what comes with the data cannot have it.
bool belongs_to_event(std::string_view name);
inline constexpr std::string_view kForeignPrefix = "line.";

// Names that the program itself uses. `timestamp`, `observed_timestamp` and `body` are parts of every event,
// not of its list of fields; readers of events answer them by these ids all the same.
namespace names {
extern const FieldId timestamp, observed_timestamp, body, severity, severity_number, trace_id, span_id;
extern const FieldId pipeline, template_number, configuration, source, zone, altered;
extern const FieldId unmatched, unmatched_column, dropped_by, step, held;
extern const FieldId stands_for, folded, values, part, estimates;  // of what steps with memory make
}  // namespace names

// The three that are parts of every event.
inline bool is_part_of_event(FieldId id) {
  return id == names::body || id == names::timestamp || id == names::observed_timestamp;
}

}  // namespace dingle
