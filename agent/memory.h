// Giving memory back to the system.
#pragma once

namespace dingle {

// To be called before there are threads. The allocator keeps what is free at the end of each of its arenas,
// all but the first one; so there are few of them. Batches are large and seldom enough not to wait for each
// other. Their buffers come and go by the hundred a second: left to itself the allocator would keep these
// among small blocks that stay, and half of its memory would be holes.
void prepare_memory();

// Frees what was kept for work to come, and lets go of the unchanged pages of programs and libraries,
// which are read again when they are needed: from the system's cache, some hundred of them in less than a
// millisecond.
void give_back_memory();

}  // namespace dingle
