// A VFS for SQLite over the system's own, that forgets what was not synced, as a power failure does.
#pragma once

#include <cstdint>

namespace dingle {

// Registers it as the default, once for the process.
void use_faulty_vfs();
// From now on nothing can be written, synced or deleted: the power is gone. Connections must be closed then.
void cut_power();
// What the failure left: of each file its state at its last sync, and of later writes a random choice, some
// of them torn. Then the power is back.
void restore_power(std::uint64_t seed);

}  // namespace dingle
