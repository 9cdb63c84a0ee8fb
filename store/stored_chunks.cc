#include "store/stored_chunks.h"

namespace dingle {

bool has_table(Connection& connection, std::string_view name) {
  Statement s(connection.get(), "SELECT 1 FROM sqlite_master WHERE type = 'table' AND name = ?");
  return s.bind_text(1, name).step();
}

// Of the chunk ?1; where there is an older table, also of the block ?2, the ?3rd.
std::string chunk_query(Connection& connection) {
  const std::string now = "SELECT data FROM stored_chunk WHERE id = ?1",
                    before = "SELECT data FROM chunk WHERE block = ?2 AND number = ?3";
  if (!has_table(connection, "chunk")) return now;
  return has_table(connection, "stored_chunk") ? now + " UNION ALL " + before : before;
}

std::optional<std::string> ask_chunk(Statement& query, std::int64_t block, std::size_t number) {
  query.bind(1, chunk_id(block, number));
  if (query.parameters() > 1) query.bind(2, block).bind(3, static_cast<std::int64_t>(number));
  const std::optional<std::string> data = query.step() ? std::optional(query.blob(0)) : std::nullopt;
  query.reset();
  return data;
}

}  // namespace dingle
