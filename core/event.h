// Events and batches: the unit of work on the way from a source to the spool.
//
// A batch is some lines of one source, of one stream or several (its slices), read into one shared, immutable
// buffer, and a table of events that point into it. Event and field texts lie in the buffer, in the batch's
// arena, or in the pipeline that made them (constants of `set`), and live as long as all three. The fields of
// an event are a short array in the arena: no malloc per event.
#pragma once

#include <algorithm>
#include <cstdint>
#include <memory>
#include <span>
#include <string>
#include <string_view>
#include <vector>

#include "core/arena.h"
#include "core/names.h"
#include "core/severity.h"
#include "core/time/zone.h"
#include "core/value.h"

namespace dingle {

// Where lines are read into. `size` bytes of text, followed by kPadding readable zero bytes, so that
// scanners may load whole vectors at the end.
struct LineBuffer {
  static constexpr std::size_t kPadding = 96;
  static constexpr std::size_t kUsual = 256 * 1024;
  // Buffers of the usual capacity are kept for those that come after, up to 4 MiB in all. Thread-safe.
  explicit LineBuffer(std::size_t capacity_);
  ~LineBuffer();
  static void forget_spare();  // frees those that are kept
  LineBuffer(const LineBuffer&) = delete;
  LineBuffer& operator=(const LineBuffer&) = delete;
  void finish(std::size_t size_) {
    size = size_;
    std::fill_n(bytes.get() + size, kPadding, '\0');
  }
  std::unique_ptr<char[]> bytes;
  std::size_t capacity;
  std::size_t size = 0;
};

inline constexpr std::size_t kMostFields = 1000;  // per event; what is beyond is not added, and counted

struct Event {
  std::string_view body;
  std::int64_t timestamp =
      0;  // ns since 1970 UTC: when it happened; the observed time until a step knows better
  std::int64_t observed = 0;   // ns since 1970 UTC: when it was read
  std::uint64_t position = 0;  // of its first byte within the stream
  Field* fields = nullptr;
  std::uint16_t field_count = 0;
  std::uint16_t field_capacity = 0;
  std::uint16_t template_number = 0;  // of the parse step that matched, counted from 1; 0: none did
  std::uint16_t slice = 0;            // of its batch: the stream that it came from
  std::uint32_t branch = 0;           // counts over all events that pipelines made of one line
  std::uint16_t failed_step = 0;      // the first step that could not work on it, counted from 1; 0: none
  std::uint16_t dropped_by = 0;       // the step that took it away, counted from 1; 0: none
  bool is_alert = false;              // a step `alert` made it
  bool concealed = false;             // only the shape of its line is left

  std::span<const Field> all() const { return {fields, field_count}; }
  const Field* find(FieldId name) const {
    for (const Field& f : all())
      if (f.name == name) return &f;
    return nullptr;
  }

  // Its fields may be those of the event that it was copied from, as long as neither changes them; the first change copies
  // them.
  void share() { field_capacity = 0; }

  // Room for `more` further fields, in memory of its own. False at kMostFields.
  bool reserve(Arena& arena, std::size_t more) {
    std::size_t need = field_count + more;
    if (need <= field_capacity) return true;
    if (need > kMostFields) return false;
    std::size_t capacity =
        std::min(kMostFields, std::max<std::size_t>({8, need, field_capacity * std::size_t{2}}));
    auto* to = static_cast<Field*>(arena.allocate(capacity * sizeof(Field)));
    std::copy(fields, fields + field_count, to);
    fields = to;
    field_capacity = static_cast<std::uint16_t>(capacity);
    return true;
  }
  // Replaces the field of that name, or adds it. False at kMostFields or for kNoField.
  bool set(Arena& arena, FieldId name, Value value) {
    if (name == kNoField) return false;
    if (const Field* f = find(name)) {
      const auto at = f - fields;
      if (!reserve(arena, 0)) return false;
      fields[at].value = value;
      return true;
    }
    if (!reserve(arena, 1)) return false;
    fields[field_count++] = {name, value};
    return true;
  }
  bool erase(Arena& arena, FieldId name) {
    const Field* f = find(name);
    return f != nullptr && erase(arena, f);
  }
  bool erase(Arena& arena, const Field* field) {  // one of its own
    const auto at = field - fields;
    if (!reserve(arena, 0)) return false;
    std::copy(fields + at + 1, fields + field_count, fields + at);
    --field_count;
    return true;
  }
};

// Of which event of which line it is. The sum over some events is that over others only if none is missing and none is there
// twice.
inline std::uint64_t fingerprint(std::uint64_t position, std::uint32_t branch) {
  const auto product = static_cast<unsigned __int128>(position ^ 0x9E3779B97F4A7C15u) *
                       (0xC2B2AE3D27D4EB4Fu + (std::uint64_t{branch} << 1));
  return static_cast<std::uint64_t>(product) ^ static_cast<std::uint64_t>(product >> 64);
}
inline std::uint64_t fingerprint(const Event& event) { return fingerprint(event.position, event.branch); }

struct Batch {
  // Up to where bytes behind a text may be loaded: for a slice of the buffer its padding, else the text's
  // end.
  const char* readable_behind(std::string_view text) const {
    const char* begin = buffer ? buffer->bytes.get() : nullptr;
    const char* end = text.data() + text.size();
    return begin && text.data() >= begin && end <= begin + buffer->size
               ? begin + buffer->size + LineBuffer::kPadding
               : end;
  }
  std::shared_ptr<const LineBuffer> buffer;
  Arena arena;
  std::vector<Event> events;
  // By slice: of its stream. Not owned: outlives the batch.
  std::span<const std::span<const Field>> resources;
  Zone zone;                                 // of times that name none, where a step does not say it
  std::string_view pipeline, configuration;  // that work on it; "": not known

  // Gives an event the fields that came with its data, under the ids of its arena's dictionary. One that the
  // resource has gets another name: a line says nothing about where it came from. Answers how many there was
  // no room for.
  std::size_t take(Event& event, std::span<const Field> more);

  // Events of further slices were made by steps: they come from nowhere.
  std::span<const Field> resource_of(const Event& event) const {
    return event.slice < resources.size() ? resources[event.slice] : std::span<const Field>();
  }

  // The value of a field of an event, or of its resource, or one of the parts that every event has.
  Value get(const Event& event, FieldId name) const {
    if (name == names::body) return Value::text(event.body);
    if (const Field* f = event.find(name)) return f->value;
    if (name == names::timestamp) return Value::timestamp(event.timestamp);
    if (name == names::observed_timestamp) return Value::timestamp(event.observed);
    for (const Field& f : resource_of(event))
      if (f.name == name) return f.value;
    if (name == names::pipeline && !pipeline.empty()) return Value::text(pipeline);
    if (name == names::configuration && !configuration.empty()) return Value::text(configuration);
    if (name == names::severity_number) return severity_number(get(event, names::severity));
    if (name == names::template_number && event.template_number != 0)
      return Value::integer(event.template_number);
    return {};
  }
};

}  // namespace dingle
