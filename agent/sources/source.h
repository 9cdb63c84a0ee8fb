// Where lines come from. A source runs threads of its own, makes batches of lines, and hands
// them in; the call blocks while the queues are full, which is all the backpressure there is.
#pragma once

#include <chrono>
#include <cstdint>
#include <functional>
#include <memory>
#include <optional>
#include <string>
#include <vector>

#include "agent/configuration.h"
#include "agent/problems.h"
#include "agent/sources/file_access.h"
#include "core/flow/work.h"
#include "core/time/clock.h"
#include "spool/spool.h"

namespace dingle {

// Fields that all events of a stream share, with the texts that they point to.
struct Resource {
  std::vector<Field> fields;
  Zone zone;  // of times that name none
  std::vector<std::unique_ptr<std::string>> texts;
  // Unless there is one of that name: what the configuration says is added first, and wins.
  void add(std::string_view name, std::string_view text) {
    const FieldId id = field_id(name);
    for (const Field& f : fields)
      if (f.name == id) return;
    texts.push_back(std::make_unique<std::string>(text));
    fields.push_back({id, Value::text(*texts.back())});
  }
};

// A line that was kept, or was sent to be looked at.
struct SampleLine {
  std::string text;
  std::shared_ptr<const Resource> resource = nullptr;  // nullptr: the fields that are fixed for its source
};

// A stream, or a piece of one.
struct SourceSlice {
  std::uint64_t stream = 0;
  std::shared_ptr<const Resource> resource;
};

// Some lines of one source, and what becomes durable together with them.
struct SourceBatch {
  std::string source;
  std::vector<SourceSlice> slices;           // at least one if there are lines
  std::shared_ptr<const LineBuffer> buffer;  // in which the lines stand
  std::vector<SourceLine> lines;             // may be none: then the changes alone keep their order
  std::int64_t observed = 0;                 // ns since 1970
  std::uint64_t bytes = 0;                   // of the streams, that the lines were made of
  Changes changes;                           // checkpoint and counters
  // For what is sent again: only what this pipeline makes of it is kept, only this branch of it, and only for this destination.
  // By their ids; 0: everything.
  std::uint32_t only_pipeline = 0, only_branch = 0, only_destination = 0;
  // For what is imported: it enters this pipeline alone, and what became of it is counted there.
  struct Entry {
    std::uint32_t pipeline = 0;  // its id; 0: wherever the source leads
    CounterId left = 0, unmatched = 0, dropped = 0, made = 0;
  };
  Entry entry;
};

// What a source counts, under numbers that are looked up once. Thread-safe.
class SourceCounters {
 public:
  SourceCounters(Spool& spool, const std::string& source);
  void add(Changes& changes, std::string_view what, std::uint64_t n) const {
    if (n != 0) changes.counters.push_back({id(what), static_cast<std::int64_t>(n)});
  }
  // What is not part of a batch: it goes with the spool's next note.
  void count(std::string_view what, std::uint64_t n = 1) const {
    if (n != 0) spool_.count({{id(what), static_cast<std::int64_t>(n)}});
  }
  CounterId id(std::string_view what) const;  // of a name in kSourceCounters

 private:
  Spool& spool_;
  std::vector<CounterId> ids_;  // by kSourceCounters
};
extern const std::vector<std::string> kSourceCounters;  // in the order of status

// The engine, as a source sees it. Thread-safe.
class Intake {
 public:
  virtual ~Intake() = default;
  // Takes the batch; blocks while the queues are full. False when the engine is stopping: then the batch was
  // not taken. Batches of one stream are appended in the order of the calls.
  virtual bool submit(SourceBatch batch) = 0;
  // For what cannot be read again: returns when the batch is on disk. Waits for room as long as `patience`.
  enum class Taken {
    durable,
    no_room,   // it was not taken
    stopping,  // the same
    unknown,   // it was taken, but may not be on disk, within `for_disk`
  };
  virtual Taken submit_durably(SourceBatch batch, std::chrono::nanoseconds patience,
                               std::chrono::nanoseconds for_disk) = 0;
  virtual Spool& spool() = 0;
  virtual Problems& problems() = 0;
  virtual const std::string& data_folder() const = 0;  // the program's own: not to be read
  // What must outlive a reload, for instance open connections: a source that stops leaves it, and the next
  // one takes it over by the same key, KIND/SOURCE/... What nobody takes over ends with the reload.
  virtual void leave(const std::string& key, std::shared_ptr<void> open) = 0;
  virtual std::shared_ptr<void> take_over(const std::string& key) = 0;
};

class Source {
 public:
  virtual ~Source() = default;  // stops if it runs
  virtual void start() = 0;
  virtual void stop() = 0;  // returns when no thread runs and nothing more will be submitted
  // The program is going to stop: what has come and cannot be read again is handed in, then it has finished.
  virtual void finish() {}
  virtual bool finished() const { return true; }
  // What it knows of its lag for status: bytes that are there and not handed in; nullopt before it has looked
  // for the first time.
  virtual std::optional<std::uint64_t> bytes_behind() const { return 0; }
  virtual std::uint64_t open() const { return 0; }                   // files or connections
  virtual std::vector<std::string> listening() const { return {}; }  // "udp 127.0.0.1:5514"
};

struct SourceMaking {
  const SourceSettings& settings;
  Intake& intake;
  const Clock& clock = system_clock();
  const FileAccess& files = system_file_access();
};

}  // namespace dingle
