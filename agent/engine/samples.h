// What the engine remembers of the lines that it read: the newest ones of each source, and fair samples, by shape, of those
// that nothing matched and of those that no pipeline took. Bounded, in memory only, thread-safe.
#pragma once

#include <deque>
#include <map>
#include <random>
#include <string>
#include <vector>

#include "agent/sources/source.h"
#include "spool/mutex.h"

namespace dingle {

struct SampledShape {
  std::string shape;
  std::uint64_t count = 0;
  std::int64_t first = 0, last = 0;  // ns since 1970: when such a line was read
  std::string reason;                // why the first of `lines` did not match
  bool parsed = false;       // a template matched them; a step behind it could not work on what it found
  std::uint64_t column = 0;  // counted from 1; 0 if there is none
  std::vector<std::string> lines;  // each line of the shape is as likely to be here as any other
};

// Lines by group (a pipeline, a source) and shape.
class ShapeSample {
 public:
  static constexpr std::size_t kMostShapes = 200, kLinesOfShape = 10, kLongestLine = 2048;
  struct Line {
    std::string_view text, reason;
    std::uint64_t column = 0;  // counted from 1; 0: none
    std::int64_t read = 0;
    bool parsed = false;
  };
  // `weight`: how many lines it stands for.
  void add(const std::string& group, const Line& line, std::uint64_t weight = 1);
  // The shapes of a group, the most frequent first. `others`: lines whose shapes had to be forgotten.
  std::vector<SampledShape> shapes(const std::string& group, std::uint64_t* others) const;
  void forget();  // all of it: the configuration has changed

 private:
  struct OfGroup {
    std::map<std::string, SampledShape> shapes;  // by shape; of parsed ones with a sign before it
    std::uint64_t others = 0;
  };
  mutable Mutex mutex_;
  std::map<std::string, OfGroup> groups_ GUARDED_BY(mutex_);
  std::minstd_rand random_ GUARDED_BY(mutex_){1};
};

// The newest lines of each source; holds on to the buffers that they were read into instead of copying.
class NewestLines {
 public:
  static constexpr std::size_t kLines = 500;
  void add(const SourceBatch& batch);
  std::vector<SampleLine> of(const std::string& source, std::size_t most) const;  // the oldest first
  void forget();

 private:
  struct Piece {
    std::shared_ptr<const LineBuffer> buffer;
    std::vector<SourceSlice> slices;
    std::vector<SourceLine> lines;
  };
  mutable Mutex mutex_;
  std::map<std::string, std::deque<Piece>> sources_ GUARDED_BY(mutex_);
};

}  // namespace dingle
