// How events stand in a spool batch. The bytes follow those of format.h's `batch`:
//
//   u8 0, u8 4                                                  the format's version; letters may hold older ones (old_events.cc)
//   varint n names: text each                                   the names of all fields, used by index below
//   varint slices, each: u64 stream, text source, text zone, fields resource of one stream: the same for every event of it;
//                        without a source: of a step that makes events
//   varint n, each: varint destination, varint m: text each     the index names (or paths) that its events use
//   varint sets, each: varint n: varint destination each        which destinations events go to; 0 among them: a pipeline that hides
//                                                               took the event's line too (SpooledEvent::hidden_elsewhere)
//   varint pipelines, each: varint id, text name, text configuration
//   varint events, each:
//     varint branch << 2 | altered << 1 | 1, varint slice, varint pipeline, varint set, or
//     varint branch << 2 | altered << 1                         of the slice, pipeline and set of the event before;
//                                                               altered: the body is not the line as it came. Version 3 had not that bit
//     varint position, varint template
//     zigzag timestamp - observed, zigzag observed
//     text body, fields
//     for each destination of the set that has names: varint index into them
//   varint indexes: text each, varint n, each:                  events that take the place of stored ones; not in version 3
//     varint ordinal, varint index, zigzag its timestamp, u64 spool, varint epoch, varint number, varint ordinal
//   fields = varint n, each: varint name << 4 | kind, then
//       text-like kinds: varint offset << 1 | 1, varint size      a slice of the body, or
//                        varint size << 1, bytes                  the bytes themselves (a body-less text)
//       int: zigzag; timestamp: zigzag; decimal: 8 bytes; boolean: u8
//
// An event's ordinal within the record counts from 0.
#pragma once

#include <array>
#include <cstdint>
#include <deque>
#include <span>
#include <string>
#include <string_view>
#include <vector>

#include "core/bytes.h"
#include "core/event.h"
#include "spool/event_id.h"

namespace dingle {

// A stored event, whose place another one takes.
struct Replaced {
  std::string_view index;      // in which it stands
  std::int64_t timestamp = 0;  // its own
  std::uint64_t spool = 0, epoch = 0, number = 0, ordinal = 0;
};

// One stream of a batch. Not owned.
struct Slice {
  std::uint64_t stream = 0;
  std::string_view source;
  std::string_view zone;  // of its times that name none
  std::span<const Field> resource;
};

// What one pipeline made of a batch, to be written. Dropped events must be gone already.
struct Section {
  std::uint32_t pipeline_id = 0;
  std::string_view pipeline, configuration;
  struct To {
    std::uint32_t destination = 0;
    std::vector<std::string> names;      // distinct index names; empty: the destination uses none
    std::vector<std::uint32_t> name_of;  // by event, if there are names
    std::vector<bool> takes = {};        // by event; empty: all of them
  };
  std::vector<To> to;
  const Batch* batch = nullptr;
  std::vector<bool> hidden_elsewhere = {};  // by event; empty: none
  std::vector<bool> altered = {};           // by event; empty: none
  std::vector<Replaced> replaces = {};      // by event; empty: none replaces any
};

// What was written, counted while it was written.
struct EncodedEvents {
  std::string bytes;
  std::vector<std::pair<std::uint32_t, std::uint32_t>> destinations;  // id, events for it; sorted
  std::vector<std::uint64_t> fingerprints;   // by destination: the sum over the events for it (core/event.h)
  std::vector<std::uint64_t> bytes_for;      // by destination: of the events for it
  std::vector<std::uint64_t> section_bytes;  // of each section's events
};
// The events' slices are indexes into `slices`.
EncodedEvents encode_events(std::span<const Slice> slices, const std::vector<Section>& sections);

// An event read back. Views point into the bytes it was read from; fields into the decoder's memory.
struct SpooledEvent {
  std::uint32_t ordinal = 0;  // within the record
  std::uint64_t stream = 0, position = 0;
  std::uint32_t pipeline_id = 0, branch = 0;
  std::string_view source, zone, pipeline, configuration, name;  // name: the index name for this destination
  std::uint32_t template_number = 0;
  std::uint32_t bytes = 0;        // that it takes in its record
  bool hidden_elsewhere = false;  // what is kept of it beside its destination says nothing of its content
  bool altered = false;           // the body is not the line as it came
  std::int64_t timestamp = 0, observed = 0;
  std::string_view body;
  std::span<const Field> fields, resource;
  const Replaced* replaces = nullptr;  // in the decoder's memory

  // The value of a field, or of the resource, or one that every event has (names.h).
  Value get(FieldId field) const;
};

// The events of one record that are for `destination`; for all destinations when it is 0. False if the bytes
// are not what `encode_events` writes: then `events` holds what came before the fault.
class EventDecoder {
 public:
  bool decode(std::string_view bytes, std::uint32_t destination, std::vector<SpooledEvent>& events);

  // Forgets what was decoded, and keeps its memory for what comes.
  void reuse();

 private:
  bool decode_old(std::string_view bytes, std::uint32_t destination, std::vector<SpooledEvent>& events);
  // Fields of the decoded events; a block never grows beyond its capacity.
  std::vector<std::vector<Field>> blocks_;
  std::size_t in_use_ = 0;  // the block that is being filled
  NameDictionary names_;    // of the events' fields
  std::deque<Replaced> replaced_;
  bool read_replaced(ByteReader& reader, std::span<SpooledEvent> events);
  Field* room(std::size_t fields);
  std::span<const Field> read(ByteReader& reader, std::string_view body, const std::vector<FieldId>& names);
};

// One event alone, as the events of a record with that one destination.
std::string encode_event(const SpooledEvent& event, std::uint32_t destination);

inline EventId event_id(const SpooledEvent& e) { return event_id(e.stream, e.position, e.branch); }

// An event as one JSON object on one line, without a newline: timestamp, severity, body, fields, resource,
// provenance.
void append_event_json(const SpooledEvent& event, std::string& out);

}  // namespace dingle
