#include "agent/engine/imports.h"

#include <fcntl.h>
#include <fmt/format.h>
#include <simdjson.h>
#include <sys/stat.h>
#include <unistd.h>
#include <xxhash.h>

#include <algorithm>
#include <thread>

#include "agent/sources/line_splitter.h"
#include "agent/sources/path_patterns.h"
#include "agent/sources/tracked_file.h"
#include "core/bytes.h"
#include "core/nearest.h"
#include "core/time/instant.h"

namespace dingle {

using namespace std::chrono_literals;
using Why = Imports::Refusal::Why;

namespace {

const std::string kPrefix = "import/";
constexpr auto kForDisk = 5s;
constexpr std::string_view kByteOrderMark = "\xEF\xBB\xBF";  // of UTF-8; says nothing

std::string key_of(std::uint64_t stream) { return kPrefix + fmt::format("{:016x}", stream); }
std::string counter_of(std::uint64_t stream, const char* what) { return key_of(stream) + "/" + what; }

std::string encode(const Import& i) {
  std::string out;
  ByteWriter w(out);
  w.u8(1);
  w.u64(i.stream);
  w.text(i.file.path);
  w.text(i.file.host);
  for (const std::uint64_t n : {i.file.size, i.file.hash, i.file.device, i.file.inode}) w.u64(n);
  w.u32(i.pipeline);
  w.text(i.source);
  w.text(i.by);
  w.u32(i.again);
  w.u8(static_cast<std::uint8_t>(i.skipping | i.done << 1));
  for (const std::uint64_t n : {static_cast<std::uint64_t>(i.began), static_cast<std::uint64_t>(i.ended),
                                i.position, i.lines, i.empty, i.joined, i.events, i.cut, i.cut_bytes})
    w.varint(n);
  return out;
}

std::optional<Import> decode(std::string_view bytes) {
  ByteReader r(bytes);
  Import i;
  if (r.u8() != 1) return std::nullopt;
  i.stream = r.u64();
  i.file.path = r.text();
  i.file.host = r.text();
  for (std::uint64_t* n : {&i.file.size, &i.file.hash, &i.file.device, &i.file.inode}) *n = r.u64();
  i.pipeline = r.u32();
  i.source = r.text();
  i.by = r.text();
  i.again = r.u32();
  const std::uint8_t flags = r.u8();
  i.skipping = flags & 1, i.done = flags & 2;
  i.began = static_cast<std::int64_t>(r.varint());
  i.ended = static_cast<std::int64_t>(r.varint());
  for (std::uint64_t* n : {&i.position, &i.lines, &i.empty, &i.joined, &i.events, &i.cut, &i.cut_bytes})
    *n = r.varint();
  return r.ok() ? std::optional(i) : std::nullopt;
}

// Of contents that were imported so often before.
std::uint64_t stream_of(std::uint64_t hash, std::uint32_t again) {
  const std::uint64_t n = XXH3_64bits_withSeed(&hash, sizeof hash, again);
  return n == 0 ? 1 : n;
}

SplitSettings split_of(const SourceSettings& s) {
  const SplitSettings* split = s.prepared ? s.prepared->split() : nullptr;
  return split != nullptr ? *split : SplitSettings();
}

// As which source the lines of a pipeline are read, if none is said.
Imports::Answer<const SourceSettings*> source_of(const Configuration& c, std::size_t node,
                                                 const std::string& name) {
  if (!name.empty()) {
    if (const SourceSettings* s = c.source(name)) return {s, {}};
    std::vector<std::string> names;
    for (const SourceSettings& s : c.sources) names.push_back(s.name);
    return {{}, {Why::unknown, "there is no source `" + name + "`", did_you_mean(name, names)}};
  }
  std::vector<const SourceSettings*> all;
  std::string names;
  for (const SourceSettings& s : c.sources) {
    if (std::string_view(s.kind->spec.name) != "files") continue;
    const auto& reached = c.flow.reached_from(s.name);
    if (std::find(reached.begin(), reached.end(), node) == reached.end()) continue;
    all.push_back(&s);
    names += (names.empty() ? "`" : ", `") + s.name + "`";
  }
  if (all.size() == 1) return {all[0], {}};
  return {{},
          {Why::wrong,
           all.empty() ? "no source that reads files leads to this pipeline"
                       : "several sources that read files lead to this pipeline: " + names,
           "say as which one the lines are to be read, joined and given their zone: --source NAME"}};
}

// Whether the file there holds what was read under its device and inode: those may be another file's by now.
bool still_holds(const ImportedFile& file, const std::string& kept) {
  const auto checkpoint = FileCheckpoint::decode(kept);
  const int fd =
      checkpoint && checkpoint->position != 0 ? ::open(file.path.c_str(), O_RDONLY | O_CLOEXEC) : -1;
  if (fd < 0) return false;
  TrackedFile there(fd, file.device, file.inode);
  return there.agrees_with(*checkpoint);
}

}  // namespace

// A file that a source reads is in the store, or will be.
std::optional<Imports::Refusal> Imports::is_read(const ImportedFile& file, bool again) const {
  char host[256] = "";
  if (::gethostname(host, sizeof host - 1) != 0 || file.host != host) return std::nullopt;
  const auto is_it = [&](const std::string& path) {
    struct stat info;
    return ::stat(path.c_str(), &info) == 0 && info.st_dev == file.device && info.st_ino == file.inode;
  };
  if (!is_it(file.path)) return std::nullopt;  // another machine of that name, or a container
  for (const SourceSettings& s : engine_.configuration()->sources) {
    const std::string known =
        "file/" + s.name + "/" + std::to_string(file.device) + ":" + std::to_string(file.inode);
    if (const auto kept = engine_.spool().state(known); kept && !again && still_holds(file, *kept))
      return Refusal{Why::conflict, "the source `" + s.name + "` has read this file",
                     "--again imports it once more: each event will then be there twice"};
    if (std::string_view(s.kind->spec.name) != "files") continue;
    const PathPatterns patterns(s.options.texts("paths"), s.options.texts("exclude"));
    const auto found = patterns.find().paths;
    if (patterns.matches(file.path) || std::any_of(found.begin(), found.end(), [&](const std::string& path) {
          return !patterns.is_excluded(path) && is_it(path);
        }))
      if (!patterns.is_excluded(file.path) && !file.path.ends_with(".gz") && !file.path.ends_with(".zst"))
        return Refusal{Why::conflict, "the source `" + s.name + "` reads this file",
                       "take it out of `paths` of " + s.name};
  }
  return std::nullopt;
}

void Imports::with_counts(Import& i) const {
  Spool& spool = engine_.spool();
  i.left = spool.counter(counter_of(i.stream, "left"));
  i.unmatched = spool.counter(counter_of(i.stream, "unmatched"));
  i.dropped = spool.counter(counter_of(i.stream, "dropped"));
  i.made = spool.counter(counter_of(i.stream, "made"));
}

std::vector<Import> Imports::list() const {
  std::vector<Import> all;
  for (const auto& [key, value] : engine_.spool().state_with_prefix(kPrefix))
    if (auto i = decode(value)) all.push_back(std::move(*i));
  std::sort(all.begin(), all.end(), [](const Import& a, const Import& b) { return a.began > b.began; });
  for (Import& i : all) with_counts(i);
  return all;
}

std::optional<Import> Imports::get(std::uint64_t stream) const {
  const auto kept = engine_.spool().state(key_of(stream));
  auto i = kept ? decode(*kept) : std::nullopt;
  if (i) with_counts(*i);
  return i;
}

std::size_t Imports::part(const Import& i) const {
  const auto configuration = engine_.configuration();
  const SourceSettings* source = configuration->source(i.source);
  const SplitSettings split = source != nullptr ? split_of(*source) : SplitSettings();
  return std::clamp(split.longest_line + split.most_bytes + 2 + kByteOrderMark.size(), kPart, kLargestPart);
}

// Forgets what was done longest ago: the same contents would be taken for new ones. False: so many are not done yet.
bool Imports::make_room() {
  std::vector<Import> all = list();
  if (all.size() < kMost) return true;
  std::erase_if(all, [](const Import& i) { return !i.done; });
  if (all.empty()) return false;
  const auto oldest = std::min_element(all.begin(), all.end(),
                                       [](const Import& a, const Import& b) { return a.ended < b.ended; });
  engine_.spool().note({{{key_of(oldest->stream), "", true}}, {}});
  engine_.spool().forget_counters(key_of(oldest->stream) + "/", " ");
  return true;
}

Imports::Answer<Import> Imports::begin(const ImportedFile& file, const std::string& pipeline,
                                       const std::string& source, bool again, const std::string& by) {
  const auto configuration = engine_.configuration();
  const std::uint32_t id = engine_.pipeline_id(pipeline);
  std::optional<std::size_t> node;
  for (std::size_t n = 0; n < configuration->flow.nodes.size(); ++n)
    if (configuration->flow.nodes[n].pipeline->name == pipeline) node = n;
  if (id == 0 || !node) {
    std::vector<std::string> names;
    for (const PipelineSettings& p : configuration->pipelines) names.push_back(p.name);
    return {{}, {Why::unknown, "there is no pipeline `" + pipeline + "`", did_you_mean(pipeline, names)}};
  }
  const auto as = source_of(*configuration, *node, source);
  if (!as.value) return {{}, as.refusal};
  if (auto read = is_read(file, again)) return {{}, std::move(*read)};
  std::lock_guard lock(mutex_);
  Import import;
  std::uint32_t before = 0;
  for (; auto kept = get(stream_of(file.hash, before)); ++before) {
    if (kept->done) continue;
    if (kept->pipeline != id || kept->source != (*as.value)->name)
      return {{},
              {Why::conflict,
               "this file is being imported in another way: as `" + kept->source + "`, by " + kept->by,
               "go on with that, as it was begun"}};
    import = *kept;
  }
  if (import.stream == 0) {
    if (before != 0 && !again)
      return {{},
              {Why::conflict, "these contents were imported before",
               "--again imports them once more: each event will then be there twice"}};
    if (!again)
      for (const Import& i : list())
        if (!i.done && i.file.path == file.path && i.file.host == file.host)
          return {{},
                  {Why::conflict,
                   "the file has changed since its import began: it had " + std::to_string(i.file.size) +
                       " bytes then, and has " + std::to_string(file.size) + " now",
                   "--again imports it anew, from its beginning; what was imported of it stays"}};
    if (!make_room())
      return {
          {},
          {Why::conflict, std::to_string(kMost) + " imports were begun and are not done, which is the most",
           "dingle import --list shows them; the same command goes on with one"}};
    import = {stream_of(file.hash, before), file, id, (*as.value)->name, by, before};
    import.began = system_now();
    if (engine_.spool().note({{{key_of(import.stream), encode(import), false}}, {}}) != 0)
      return {{}, {Why::busy, "the spool cannot be written", "the client goes on when it can"}};
  }
  if (!engine_.spool().wait_durable(kForDisk))
    return {{}, {Why::busy, "the spool's disk does not answer", "the client goes on when it does"}};
  return {import, {}};
}

Imports::Answer<Import> Imports::take(std::uint64_t stream, std::uint64_t position, std::string_view text,
                                      bool last, std::chrono::nanoseconds patience) {
  {
    std::lock_guard lock(mutex_);
    if (!under_way_.insert(stream).second)
      return {{}, {Why::busy, "another part of this file is being taken", "ask again in a second"}};
  }
  struct Leave {
    Imports& all;
    std::uint64_t stream;
    ~Leave() {
      std::lock_guard lock(all.mutex_);
      all.under_way_.erase(stream);
    }
  } const leave{*this, stream};
  Spool& spool = engine_.spool();
  if (!spool.wait_durable(kForDisk)) return {{}, {Why::busy, "the spool's disk does not answer", ""}};
  const std::optional<Import> kept = get(stream);
  if (!kept) return {{}, {Why::unknown, "no such import was begun", "begin it first"}};
  Import now = *kept;
  if (now.position != position || now.done)
    return {{},
            {Why::conflict,
             now.done ? "this import is done" : "this import goes on at " + std::to_string(now.position), "",
             now.position}};
  const auto configuration = engine_.configuration();
  const SourceSettings* source = configuration->source(now.source);
  if (source == nullptr)
    return {{},
            {Why::wrong, "the source `" + now.source + "` is gone", "give one of that name back, to go on"}};
  const SplitSettings settings = split_of(*source);
  auto resource = std::make_shared<Resource>();
  resource->zone = source->zone;
  for (const auto& [field, value] : source->resource) resource->add(field, value);
  resource->add("log.file.path", now.file.path);
  if (!now.file.host.empty()) resource->add("host.name", now.file.host);
  const SourceCounters counters(spool, source->name);
  const SourceBatch::Entry entry{now.pipeline, spool.counter_id(counter_of(stream, "left")),
                                 spool.counter_id(counter_of(stream, "unmatched")),
                                 spool.counter_id(counter_of(stream, "dropped")),
                                 spool.counter_id(counter_of(stream, "made"))};
  const std::size_t most = settings.longest_line + settings.most_bytes + 2;
  const auto until = std::chrono::steady_clock::now() + patience;
  std::optional<Intake::Taken> refused;
  // Pieces, so that several are worked on at once; the last one waits until all are on disk.
  for (std::string_view rest = text; !refused && (!rest.empty() || last) && !now.done;) {
    const std::size_t mark =
        now.position == 0 && rest.starts_with(kByteOrderMark) ? kByteOrderMark.size() : 0;
    Split s;
    std::shared_ptr<LineBuffer> buffer;
    for (std::size_t want = LineBuffer::kUsual;; want = most) {
      const std::string_view piece = rest.substr(0, want);
      const bool ends = last && piece.size() == rest.size();
      buffer = std::make_shared<LineBuffer>(std::max<std::size_t>(1, piece.size()));
      std::copy(piece.begin(), piece.end(), buffer->bytes.get());
      buffer->finish(piece.size());
      const std::string_view chunk = std::string_view(buffer->bytes.get(), piece.size()).substr(mark);
      s = split(chunk, settings, now.skipping, ends);
      if (s.consumed == 0 && piece.size() == most)  // no line and no event is longer
        s = split(chunk, settings, now.skipping, true);
      if (s.consumed != 0 || want == most || piece.size() == rest.size()) break;
    }
    if (s.consumed != 0 || rest.size() == mark) s.consumed += mark;
    const bool whole = s.consumed == rest.size();
    if (s.consumed == 0 && !(last && whole)) break;
    rest.remove_prefix(s.consumed);
    SourceBatch batch;
    batch.source = source->name;
    batch.entry = entry;
    batch.slices = {{stream, resource}};
    batch.observed = system_now();
    batch.bytes = s.consumed;
    std::uint64_t invalid = 0;
    for (SourceLine& line : s.events) {
      line.position += now.position + mark;
      invalid += !simdjson::validate_utf8(line.text.data(), line.text.size());
    }
    batch.lines = std::move(s.events);
    batch.buffer = std::move(buffer);
    const auto add = [&](const char* what, std::uint64_t n) { counters.add(batch.changes, what, n); };
    add("lines", s.lines);
    add("empty", s.empty);
    add("joined", s.merged);
    add("events", batch.lines.size());
    add("cut", s.cut);
    add("cut_bytes", s.cut_bytes);
    add("invalid_utf8", invalid);
    Import then = now;
    then.position += s.consumed;
    then.skipping = s.skipping;
    then.lines += s.lines;
    then.empty += s.empty;
    then.joined += s.merged;
    then.events += batch.lines.size();
    then.cut += s.cut;
    then.cut_bytes += s.cut_bytes;
    then.done = last && whole;
    if (then.done) then.ended = system_now();
    batch.changes.state.push_back({key_of(stream), encode(then), false});
    refused = engine_.hand_in(
        std::move(batch), std::max<std::chrono::nanoseconds>(until - std::chrono::steady_clock::now(), 1ms));
    if (!refused) now = then;
  }
  // What was handed in is waited for: then it is known where to go on.
  const auto there = [&] {
    const auto state = spool.state(key_of(stream));
    const auto reached = state ? decode(*state) : std::nullopt;
    return reached && reached->position >= now.position && reached->done == now.done;
  };
  bool durable = false;
  for (const auto end = std::chrono::steady_clock::now() + kForDisk;
       std::chrono::steady_clock::now() < end && !durable;)
    if (there())
      durable = spool.wait_durable(100ms);
    else
      std::this_thread::sleep_for(1ms);
  if (!durable)
    return {{}, {Why::busy, "what was sent may be on disk or not", "the client asks again how far it is"}};
  if (refused && now.position == position) {
    const std::string full = engine_.keeps_import_waiting(now.pipeline);
    return {{},
            {Why::busy,
             !full.empty() ? "it waits for `" + full + "`, which has more than a quarter of its queue to send"
             : *refused == Intake::Taken::no_room ? "it waits for room"
                                                  : "the program stops, or is configured anew",
             "what comes live goes first"}};
  }
  with_counts(now);
  return {now, {}};
}

}  // namespace dingle
