// Blocks: some thousand events, column by column.
//
// A block is a directory and chunks. The directory, uncompressed:
//   varint version (2), varint count, varint columns, each:
//     text field ("" for the fixed columns), u8 kind or fixed column, varint present,
//     varint chunk, varint offset, varint size     within the chunk as decompressed
//     u8 bounded, [ least, greatest ]              int, timestamp, stream, position: zigzag; decimal: 8 bytes
// A chunk is a zstd frame. Columns under 4 KiB share chunks. A column's bytes:
//   u8 all present, [ bitmap of count bits, lowest first ]
//   int, timestamp: zigzag differences to the value before; boolean: u8 each; decimal: 8 bytes each
//   texts: u8 1, varint n, n texts, then an index each (u8 if n <= 256, else varint)   a dictionary, or
//          u8 0, varint size each, then the bytes of all
// The fixed columns (kinds from 32) are timestamp, observed, spool, epoch, number, ordinal, stream, position,
// body, and branch where one is not 0. A column of what does not come from the event itself (its resource, `dingle.source` and the like) has 64 added to its
// kind. Version 1 told neither apart.
#pragma once

#include <array>
#include <cstdint>
#include <deque>
#include <functional>
#include <map>
#include <memory>
#include <optional>
#include <span>
#include <stdexcept>
#include <string>
#include <string_view>
#include <vector>

#include "core/condition/condition.h"
#include "core/event.h"
#include "spool/events.h"
#include "store/block_format.h"

namespace dingle {

inline constexpr std::size_t kEventsPerBlock = 4096;
inline constexpr std::size_t kMostColumns = 2000;

// Where an event lies in the order of all events of a store.
struct EventOrder {
  std::uint64_t spool = 0, epoch = 0, number = 0, ordinal = 0;
  friend auto operator<=>(const EventOrder&, const EventOrder&) = default;
};

// Which line an event came of, and which of the events of that line it is.
struct EventOrigin {
  std::uint64_t stream = 0, position = 0, branch = 0;
  friend auto operator<=>(const EventOrigin&, const EventOrigin&) = default;
};

// An event as the store sees it. Views; whoever made it says into what.
struct StoredEvent {
  std::int64_t timestamp = 0, observed = 0;
  EventOrder order;
  std::uint64_t stream = 0, position = 0;
  std::string_view body;
  std::span<const Field> fields;  // its own
  // Its resource, and what the program says of it (`dingle.source` and the like). Its own hide those of the same name.
  std::span<const Field> more;
  std::uint32_t branch = 0;
  const Replaced* replaces = nullptr;  // on its way into an index: the stored one whose place it takes
};

struct EncodedBlock {
  std::int64_t first = 0, last = 0;  // event times
  std::size_t count = 0;
  std::string directory, filter;
  std::vector<std::string> chunks;
};

// Encodes the first events of `events`: at most kEventsPerBlock, fewer when they have more than kMostColumns
// columns. `taken`: how many. There must be at least one. Not thread-safe; keeps its memory for the next
// call.
class BlockEncoder {
 public:
  BlockEncoder();
  ~BlockEncoder();
  void forget_memory();  // that is kept for blocks to come
  EncodedBlock encode(std::span<const StoredEvent> events, std::size_t& taken);

 private:
  struct Memory;
  std::unique_ptr<Memory> memory_;
};

// Thrown where a column is asked for that cannot be read: what stands in it is nobody's to guess.
struct DamagedBlock : std::runtime_error {
  DamagedBlock() : std::runtime_error("a block is damaged") {}
};

// Reads a block. Columns are decompressed when they are first asked for. Not thread-safe.
class Block : public FieldReader {
 public:
  using ChunkLoader = std::function<std::optional<std::string>(std::size_t chunk)>;
  // Nothing if the directory is damaged. `throws`: DamagedBlock, at the first column that cannot be read, of all calls that read
  // one; else it looks absent, and `damaged` says so.
  static std::unique_ptr<Block> open(std::string_view directory, ChunkLoader load, bool throws = false);

  std::size_t count() const { return count_; }
  std::uint64_t serial() const { return names_.serial(); }  // another one for each block that is opened
  std::vector<FieldId> fields() const;                      // that some of its events have
  // What the directory says of a field's column; the name lives as long as the block.
  struct ColumnInfo {
    std::string_view name;
    FieldId field = kNoField;
    Kind kind = Kind::absent;
    bool more = false;  // not the event's own
    std::size_t present = 0, bytes = 0;
  };
  std::vector<ColumnInfo> columns() const;
  std::size_t bytes() const;                 // of its columns, decompressed; costs no reading
  bool damaged() const { return damaged_; }  // a chunk could not be read: its columns look absent

  // Whether some event of the block may satisfy all the bounds, by the least and greatest values.
  bool may_satisfy(const std::vector<Condition::Bound>& bounds) const;
  // Whether all the words (in lower case) stand somewhere in its texts, whatever stands around them. Costs what it takes to
  // decompress the texts and to look through them once.
  bool may_mention(const std::vector<std::string>& words) const;
  // The least and greatest origin of its events, each member by itself; nothing for blocks whose directory does not say so.
  std::optional<std::pair<EventOrigin, EventOrigin>> origin_bounds() const;

  // The values of one field, for who asks many events of a block: what `get` answers. Valid as long as the block.
  class Values {
   public:
    Values() = default;  // of nothing
    Values(const Block& block, FieldId field);
    bool repeats() const { return repeats_; }  // texts that are equal stand in one place
    Value at(std::size_t row) const {
      if (column_ != nullptr) return column_[row];
      return block_ == nullptr ? Value() : block_->get(row, field_);
    }

   private:
    const Value* column_ = nullptr;  // where one column has them all
    const Block* block_ = nullptr;   // else: who is asked for each
    FieldId field_ = kNoField;
    bool repeats_ = false;
  };
  // The values of a field, and how many events have each, where its column says so without being taken apart: one column of
  // texts that repeat. An absent one stands for the events without. False: ask each event.
  bool count_values(FieldId field, std::vector<std::pair<Value, std::uint64_t>>& counts) const;

  // The event that `get` and the others speak of.
  void select(std::size_t row) { row_ = row; }
  Value get(FieldId field) const override { return get(row_, field); }
  bool any_text(const std::function<bool(std::string_view)>& test) const override;
  std::int64_t timestamp(std::size_t row) const;
  std::string_view body(std::size_t row) const;
  EventOrder order(std::size_t row) const;
  void origins(std::vector<EventOrigin>& all) const;  // by row
  // The whole event; views into the block, valid as long as it, and into both vectors, to which its fields go.
  StoredEvent event(std::size_t row, std::vector<Field>& fields, std::vector<Field>& more) const;

 private:
  struct Column {
    FieldId field = kNoField;
    std::uint8_t kind = 0;
    bool more = false;  // not the event's own
    std::size_t present = 0, chunk = 0, offset = 0, size = 0;
    bool bounded = false;
    Value least, greatest;
    bool loaded = false, repeats = false;
    std::vector<Value> values;  // one for each event; absent where it has none
  };
  Value get(std::size_t row, FieldId field) const;
  const Column* fixed(std::uint8_t kind) const;
  Column* only_column(FieldId field) const;
  bool hidden(const Column& column, std::size_t row) const;
  void load(Column& column) const;
  std::string_view bytes_of(const Column& column) const;
  std::string_view chunk(std::size_t number) const;

  std::size_t count_ = 0, row_ = 0;
  ChunkLoader load_;
  mutable std::vector<Column> columns_;
  std::vector<FieldId> fields_;  // of the columns, close together: what is looked for most
  std::array<std::uint16_t, block_format::kFixed> fixed_{};  // where the fixed columns are, + 1
  mutable std::map<std::size_t, std::string> chunks_;
  void note_damage() const;
  bool throws_ = false;
  mutable bool damaged_ = false;
  NameDictionary names_;  // of its columns
};

// What stands in an event's JSON beside it.
struct EventJson {
  EventJson(bool with_types = false, bool with_id = false) : types(with_types), id(with_id) {}
  bool types;  // a member `dingle.types` that names the type of each field, since JSON has fewer
  bool id;     // `dingle.id`
};
// The event as one JSON object without a newline, as the API gives it.
void append_event_json(const StoredEvent& event, const EventJson& with, std::string& out);

}  // namespace dingle
