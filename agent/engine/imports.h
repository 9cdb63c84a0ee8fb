// Finite files that somebody sends through a pipeline, part by part.
//
// A file is one stream, known by its contents. How far it is stands in the spool, with the lines: a part is taken only if it
// begins there. So whoever sends, or this program, may be killed at any point, and no line is lost or there twice.
#pragma once

#include <cstdint>
#include <mutex>
#include <optional>
#include <set>
#include <string>
#include <string_view>
#include <vector>

#include "agent/engine/engine.h"
#include "agent/sources/read_files.h"

namespace dingle {

// A file, as who sends it sees it.
struct ImportedFile {
  std::string path, host;  // absolute; where it lies
  std::uint64_t size = 0;  // bytes of text, decompressed
  std::uint64_t hash = 0;  // of that text
  std::uint64_t device = 0, inode = 0;
};

struct Import {
  std::uint64_t stream = 0;
  ImportedFile file;
  std::uint32_t pipeline = 0;  // its id
  std::string source, by;      // as which the lines are read; who asked
  std::uint32_t again = 0;     // how often these contents were imported before
  std::uint64_t position = 0;  // in the text: all before it is in the spool
  bool skipping = false;       // within a line that was cut
  bool done = false;
  std::int64_t began = 0, ended = 0;  // ns since 1970 UTC; 0: not yet
  std::uint64_t lines = 0, empty = 0, joined = 0, events = 0, cut = 0, cut_bytes = 0;
  // Counted as they pass: events that the pipeline did not let in, that no template matched, that steps dropped, and that went to
  // destinations.
  std::int64_t left = 0, unmatched = 0, dropped = 0, made = 0;
};

// Thread-safe. The engine outlives it.
class Imports {
 public:
  static constexpr std::size_t kMost = 2000;     // are remembered; the oldest that are done are forgotten
  static constexpr std::size_t kPart = 4 << 20;  // bytes of text that are asked for at once
  static constexpr std::size_t kLargestPart = 64 << 20;  // that are taken at once

  explicit Imports(Engine& engine) : engine_(engine) {}

  struct Refusal {
    enum class Why { unknown, wrong, conflict, busy } why = Why::wrong;
    std::string message, hint;
    std::uint64_t position = 0;  // conflict: where it goes on
  };
  template <class T>
  struct Answer {
    std::optional<T> value;
    Refusal refusal;
  };

  // Begins, or goes on with what was begun and is not done. `source`: as which its lines are read; "": the pipeline's only
  // one that reads files. `again`: though these contents were imported before.
  Answer<Import> begin(const ImportedFile& file, const std::string& pipeline, const std::string& source,
                       bool again, const std::string& by);
  // The text from `position` on; `last`: to its end. Answers how far it is then: to the last whole event. Waits for room as long as
  // `patience`.
  Answer<Import> take(std::uint64_t stream, std::uint64_t position, std::string_view text, bool last,
                      std::chrono::nanoseconds patience);
  std::optional<Import> get(std::uint64_t stream) const;
  std::vector<Import> list() const;  // those that began last come first
  // What sources have read of files: a text that holds one of those is there already. For who imports it, who alone sees it whole.
  std::vector<ReadFile> read_by_sources() const { return read_files(engine_.spool()); }
  // At least so much of the text must be sent at once.
  std::size_t part(const Import& import) const;

 private:
  std::optional<Refusal> is_read(const ImportedFile& file, bool again) const;
  void with_counts(Import& import) const;
  bool make_room();
  Engine& engine_;
  std::mutex mutex_;
  std::set<std::uint64_t> under_way_;  // streams of which a part is being taken
};

}  // namespace dingle
