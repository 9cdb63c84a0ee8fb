// The chunks of an index's blocks, as they stand in its file: stored_chunk(id, data).
//
// Earlier programs kept them in chunk(block, number, data), a table by its key of two columns: its rows were larger, and each
// search for one copied others. What stands there is read and removed there; what is added stands in the new one.
#pragma once

#include <cstdint>
#include <optional>
#include <string>
#include <string_view>

#include "store/sqlite.h"

namespace dingle {

inline constexpr int kChunkBits = 16;  // of a chunk's id, for its number in its block

inline std::int64_t chunk_id(std::int64_t block, std::size_t number) {
  return block << kChunkBits | static_cast<std::int64_t>(number);
}

bool has_table(Connection& connection, std::string_view name);
// For `ask_chunk`; for this connection, while no other program makes its tables.
std::string chunk_query(Connection& connection);
std::optional<std::string> ask_chunk(Statement& query, std::int64_t block, std::size_t number);

}  // namespace dingle
