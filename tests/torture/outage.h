// A long outage of PostgreSQL under a steady rate of lines: memory, spool, draining, order and latency,
// printed.
#pragma once

namespace dingle {

// 0: nothing was lost, doubled or disordered.
int run_outage(double minutes, int lines_per_second);

}  // namespace dingle
