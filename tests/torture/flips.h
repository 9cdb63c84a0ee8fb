// Bits that turn over at rest: in every kind of file that an agent keeps, between two runs.
#pragma once

namespace dingle {

// So many rounds: lines are read, one destination has them and another does not yet; the agent ends; bits are turned in one of
// its files, or a piece of it becomes zeros, or its end is gone; the agent starts. What is lost must have been told, and counted
// where it can be; nothing else may be. Prints a ledger; true if it is right.
bool flip_bits(int rounds, unsigned seed);

}  // namespace dingle
