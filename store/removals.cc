#include "store/removals.h"

#include <algorithm>
#include <fstream>
#include <sstream>

#include "spool/whole_file.h"

namespace dingle {
namespace {

std::string path_in(const std::string& folder) { return folder + "/removed"; }

}  // namespace

std::vector<Removed> removed_from(const std::string& folder) {
  std::vector<Removed> all;
  std::ifstream file(path_in(folder));
  for (std::string text; std::getline(file, text);) {
    std::istringstream line(text);
    Removed one;
    if (!(line >> one.at >> one.events >> one.bytes >> one.index)) continue;
    line.ignore(1);
    std::getline(line, one.why);
    all.push_back(std::move(one));
  }
  return all;
}

bool note_removed(const std::string& folder, const Removed& removed) {
  std::vector<Removed> all = removed_from(folder);
  // A removal that a crash cut short is done again.
  if (!all.empty() && all.back().index == removed.index && all.back().events == removed.events)
    all.pop_back();
  all.push_back(removed);
  std::ostringstream text;
  for (std::size_t i = all.size() - std::min(all.size(), kMostRemovals); i < all.size(); ++i)
    text << all[i].at << ' ' << all[i].events << ' ' << all[i].bytes << ' ' << all[i].index << ' '
         << all[i].why << '\n';
  return write_whole(path_in(folder), std::move(text).str(), 0600) == 0;
}

}  // namespace dingle
