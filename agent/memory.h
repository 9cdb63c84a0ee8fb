// Giving memory back to the system.
#pragma once

namespace dingle {

// Frees what was kept for work to come, and lets go of the pages of programs and libraries, which are read
// again when they are needed: from the system's cache, some hundred of them in less than a millisecond.
void give_back_memory();

}  // namespace dingle
