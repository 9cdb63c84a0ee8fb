#include "core/nearest.h"

#include <algorithm>

namespace dingle {
namespace {

std::size_t edits(std::string_view a, std::string_view b) {
  std::vector<std::size_t> before(b.size() + 1), previous(b.size() + 1), row(b.size() + 1);
  for (std::size_t j = 0; j <= b.size(); ++j) previous[j] = j;
  for (std::size_t i = 1; i <= a.size(); ++i) {
    row[0] = i;
    for (std::size_t j = 1; j <= b.size(); ++j) {
      row[j] = std::min({previous[j] + 1, row[j - 1] + 1, previous[j - 1] + (a[i - 1] != b[j - 1])});
      if (i > 1 && j > 1 && a[i - 1] == b[j - 2] && a[i - 2] == b[j - 1])
        row[j] = std::min(row[j], before[j - 2] + 1);
    }
    before = previous;
    previous = row;
  }
  return previous[b.size()];
}

}  // namespace

std::string nearest(std::string_view name, const std::vector<std::string>& candidates) {
  if (name.size() > 100) return "";
  std::string best;
  std::size_t fewest = std::max<std::size_t>(1, name.size() / 3) + 1;
  for (const auto& candidate : candidates) {
    std::size_t n = edits(name, candidate);
    if (n < fewest) fewest = n, best = candidate;
  }
  return best;
}

std::string did_you_mean(std::string_view name, const std::vector<std::string>& candidates) {
  std::string best = nearest(name, candidates);
  return best.empty() ? "" : "did you mean `" + best + "`?";
}

std::string one_of(const std::vector<std::string>& candidates) {
  std::string text = "one of: ";
  std::size_t shown = std::min<std::size_t>(candidates.size(), candidates.size() <= 16 ? 16 : 12);
  for (std::size_t i = 0; i < shown; ++i) text += (i ? ", " : "") + candidates[i];
  if (shown < candidates.size()) text += " and " + std::to_string(candidates.size() - shown) + " more";
  return text;
}

}  // namespace dingle
