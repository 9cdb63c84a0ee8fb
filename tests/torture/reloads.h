// Changes of the configuration under load: broken ones, changed pipelines, sources and destinations that come, go and get
// other names, some with a kill in the middle.
#pragma once

namespace dingle {

// 0: nothing was lost, doubled or disordered. Prints the longest gap of what did not change, against a run without changes.
int torture_reloads(int rounds, unsigned seed);

}  // namespace dingle
