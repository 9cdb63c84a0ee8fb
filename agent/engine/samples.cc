#include "agent/engine/samples.h"

#include <algorithm>

#include "core/draft/tokens.h"

namespace dingle {

void ShapeSample::add(const std::string& group, const Line& line, std::uint64_t weight) {
  std::string shape = shape_of(line.text, line.read);
  const std::string key = (line.parsed ? "+" : "") + shape;
  Lock lock(mutex_);
  OfGroup& all = groups_[group];
  auto it = all.shapes.find(key);
  if (it == all.shapes.end()) {
    if (all.shapes.size() == kMostShapes) {
      // Room is made at the expense of a rare shape that was not seen for the longest time.
      auto rare = std::min_element(all.shapes.begin(), all.shapes.end(), [](const auto& a, const auto& b) {
        return std::pair(a.second.count, a.second.last) < std::pair(b.second.count, b.second.last);
      });
      if (rare->second.count > 1 && random_() % rare->second.count != 0) {
        all.others += weight;
        return;
      }
      all.others += rare->second.count;
      all.shapes.erase(rare);
    }
    it = all.shapes.emplace(key, SampledShape{}).first;
    it->second.shape = std::move(shape);
    it->second.first = line.read;
    it->second.parsed = line.parsed;
  }
  SampledShape& s = it->second;
  s.count += weight;
  s.last = line.read;
  std::size_t slot = s.lines.size();
  if (slot == kLinesOfShape) slot = random_() % s.count;
  if (slot >= kLinesOfShape) return;
  if (slot == s.lines.size()) s.lines.emplace_back();
  s.lines[slot] = std::string(line.text.substr(0, kLongestLine));
  if (slot == 0) s.reason = std::string(line.reason), s.column = line.column;
}

std::vector<SampledShape> ShapeSample::shapes(const std::string& group, std::uint64_t* others) const {
  Lock lock(mutex_);
  std::vector<SampledShape> result;
  *others = 0;
  auto it = groups_.find(group);
  if (it == groups_.end()) return result;
  *others = it->second.others;
  for (const auto& [shape, s] : it->second.shapes) result.push_back(s);
  std::stable_sort(result.begin(), result.end(),
                   [](const auto& a, const auto& b) { return a.count > b.count; });
  return result;
}

void ShapeSample::forget() {
  Lock lock(mutex_);
  groups_.clear();
}

void NewestLines::add(const SourceBatch& batch) {
  if (batch.lines.empty()) return;
  Piece piece;
  piece.buffer = batch.buffer;
  const std::size_t from = batch.lines.size() > kLines ? batch.lines.size() - kLines : 0;
  piece.slices = batch.slices;
  piece.lines.assign(batch.lines.begin() + static_cast<std::ptrdiff_t>(from), batch.lines.end());
  Lock lock(mutex_);
  auto& pieces = sources_[batch.source];
  pieces.push_back(std::move(piece));
  std::size_t lines = 0, bytes = 0;
  for (std::size_t i = pieces.size(); i-- > 0;) {
    lines += pieces[i].lines.size();
    bytes += pieces[i].buffer->capacity;
    // No more buffers than the lines need, and no more memory than a few of them.
    constexpr std::size_t kMostBytes = 4 << 20;
    if (lines >= kLines || bytes > kMostBytes) {
      pieces.erase(pieces.begin(), pieces.begin() + static_cast<std::ptrdiff_t>(i));
      break;
    }
  }
}

void NewestLines::forget() {
  Lock lock(mutex_);
  sources_.clear();
}

std::vector<SampleLine> NewestLines::of(const std::string& source, std::size_t most) const {
  Lock lock(mutex_);
  std::vector<SampleLine> result;
  auto it = sources_.find(source);
  if (it == sources_.end()) return result;
  for (auto piece = it->second.rbegin(); piece != it->second.rend() && result.size() < most; ++piece)
    for (auto line = piece->lines.rbegin(); line != piece->lines.rend() && result.size() < most; ++line)
      result.push_back({std::string(line->text),
                        line->slice < piece->slices.size() ? piece->slices[line->slice].resource : nullptr});
  std::reverse(result.begin(), result.end());
  return result;
}

}  // namespace dingle
