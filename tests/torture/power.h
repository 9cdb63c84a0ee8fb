// Power failures, simulated: an agent's spool on a disk that forgets what was not synced, its store on such a
// VFS of SQLite, and a real PostgreSQL beside it.
#pragma once

#include <string>

namespace dingle {

struct PowerLosses {
  int rounds = 0;
  long events = 0, index_lost = 0, index_doubled = 0, index_disordered = 0, table_lost = 0, table_doubled = 0,
       table_disordered = 0;
  bool with_table = false;
  std::string text() const;
  bool good() const {
    return events > 0 &&
           index_lost + index_doubled + index_disordered + table_lost + table_doubled + table_disordered == 0;
  }
};
PowerLosses lose_power(int rounds, unsigned seed, bool with_postgres);

}  // namespace dingle
