// Steps with memory over power failures, kills, full disks, changes of their meaning, restored machines and damage.
#pragma once

namespace dingle {

// So many rounds on a disk in memory that forgets what was not synced. `damage`: bytes of the spool are turned over
// between runs; what is missing then must have been told. False: something else is missing, or there twice.
bool torture_memories(int rounds, unsigned seed, bool damage);

}  // namespace dingle
