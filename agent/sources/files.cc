// files: lines appended to files, found by path patterns.
#include <dirent.h>
#include <fcntl.h>
#include <fnmatch.h>
#include <glob.h>
#include <simdjson.h>
#include <sys/stat.h>
#include <unistd.h>

#include <algorithm>
#include <atomic>
#include <cstring>
#include <map>
#include <set>
#include <thread>

#include "agent/sources/folder_watch.h"
#include "agent/sources/line_splitter.h"
#include "agent/sources/reading_order.h"
#include "agent/sources/source.h"
#include "agent/sources/tracked_file.h"
#include "core/time/instant.h"

namespace dingle {
namespace {

constexpr std::size_t kChunk = LineBuffer::kUsual;
constexpr int kPollMs = 40;
constexpr std::int64_t kCloseAfter =
    5 * kSecond;  // a file that no path leads to any more, when nothing was added
constexpr std::int64_t kDiscoverEvery = kSecond;
constexpr int kChunksInARow = 64;  // of one file, while others wait
constexpr std::size_t kMostKnownPaths = 10'000;

class PreparedFiles final : public Prepared {
 public:
  SplitSettings split;
};

class Files final : public Source {
 public:
  explicit Files(const SourceMaking& m)
      : name_(m.settings.name),
        options_(m.settings.options),
        resource_(m.settings.resource),
        zone_(m.settings.zone),
        intake_(m.intake) {
    if (auto prepared = std::static_pointer_cast<const PreparedFiles>(m.settings.prepared))
      split_ = prepared->split;
    char host[256] = "";
    if (::gethostname(host, sizeof host - 1) == 0) host_ = host;
  }
  ~Files() override { stop(); }

  void start() override {
    thread_ = std::thread([this] { run(); });
  }
  void stop() override {
    stopping_ = true;
    if (thread_.joinable()) thread_.join();
  }
  std::uint64_t bytes_behind() const override { return bytes_behind_; }
  std::uint64_t open() const override { return open_files_; }

 private:
  std::string key(const TrackedFile& file) const { return "file/" + name_ + "/" + file.key(); }
  std::string about(const std::string& path) const { return "source " + name_ + ": " + path; }

  void run() {
    find_rotated_away();
    std::int64_t discovered = 0;
    while (!stopping_ && !refused_) {
      const std::int64_t now = system_now();
      if (now - discovered >= kDiscoverEvery || now < discovered) {
        const bool first = !discovered_once_;
        discover(first);
        discovered = now;
        // What lost its name while folders were listed holds earlier lines than what was found by that name.
        if (follow_renames(watch_.wait(0), first)) discovered = 0;
      }
      bool any = false;
      std::set<std::string> waiting;  // families with earlier lines
      for (TrackedFile* file : to_catch_up(files_)) {
        if (waiting.count(file->family)) continue;
        bool more = true;
        for (int i = 0; more && i < kChunksInARow && !stopping_ && !refused_; ++i) more = read_some(*file);
        any |= more;
        if (more)
          waiting.insert(file->family);
        else
          file->catching_up = false, file->known = true;
      }
      for (auto it = files_.begin(); it != files_.end() && !stopping_ && !refused_;) {
        TrackedFile& file = *it->second;
        if (!file.catching_up) any |= read_some(file);
        if (!refused_ && is_done(file))
          it = files_.erase(it);
        else
          ++it;
      }
      look_behind();
      if (follow_renames(watch_.wait(any ? 0 : kPollMs), false)) discovered = 0;
    }
    files_.clear();
  }

  void look_behind() {
    std::uint64_t behind = 0;
    for (const auto& [id, file] : files_)
      behind += file->seen_size - std::min(file->seen_size, file->checkpoint.position);
    bytes_behind_ = behind;
    open_files_ = files_.size();
  }

  // ---- which files ----

  std::set<std::string> matching_paths() {
    std::set<std::string> paths;
    for (const std::string& pattern : options_.texts("paths")) {
      glob_t found{};
      watch_folders(pattern.substr(0, pattern.rfind('/') + 1));
      const int result = ::glob(pattern.c_str(), GLOB_NOSORT | GLOB_BRACE, nullptr, &found);
      if (result == 0)
        for (std::size_t i = 0; i < found.gl_pathc; ++i) paths.insert(found.gl_pathv[i]);
      ::globfree(&found);
    }
    std::erase_if(paths, [&](const std::string& path) {
      const std::string base = path.substr(path.rfind('/') + 1);
      std::vector<std::string> exclude{"*.gz", "*.zst", "*.xz", "*.bz2"};
      for (const std::string& pattern : options_.texts("exclude")) exclude.push_back(pattern);
      return std::any_of(exclude.begin(), exclude.end(), [&](const std::string& pattern) {
        return ::fnmatch(pattern.c_str(),
                         pattern.find('/') == std::string::npos ? base.c_str() : path.c_str(), 0) == 0;
      });
    });
    return paths;
  }

  // The folders that a pattern's files lie in; they may have wildcards of their own.
  void watch_folders(const std::string& pattern) {
    if (pattern.find_first_of("*?[{") == std::string::npos) return watch_.add(pattern);
    glob_t found{};
    if (::glob(pattern.c_str(), GLOB_NOSORT | GLOB_BRACE | GLOB_ONLYDIR, nullptr, &found) == 0)
      for (std::size_t i = 0; i < found.gl_pathc; ++i) watch_.add(found.gl_pathv[i]);
    ::globfree(&found);
  }

  // A file that got its name and lost it again before folders were listed is opened by its new name. True if
  // folders should be listed now.
  bool follow_renames(const FolderWatch::News& news, bool first) {
    for (const auto& [from, to] : news.renamed) {
      const auto& patterns = options_.texts("paths");
      const bool ours = known_paths_.count(from) ||
                        std::any_of(patterns.begin(), patterns.end(), [&, f = from](const std::string& p) {
                          return ::fnmatch(p.c_str(), f.c_str(), FNM_PATHNAME) == 0;
                        });
      struct stat info;
      if (!ours || files_.size() >= static_cast<std::size_t>(options_.number("most_files")) ||
          ::stat(to.c_str(), &info) != 0 || files_.count({info.st_dev, info.st_ino}))
        continue;
      if (auto file = open(to, first)) {
        file->attached = false;
        file->detached_at = system_now();
        file->family = family_of(from);
        take(std::move(file));
      }
    }
    return news.any;
  }

  static bool is_own_output(const struct stat& info) {
    for (int fd : {STDOUT_FILENO, STDERR_FILENO}) {
      struct stat own;
      if (::fstat(fd, &own) == 0 && own.st_dev == info.st_dev && own.st_ino == info.st_ino) return true;
    }
    return false;
  }

  void take(std::unique_ptr<TrackedFile> file) {
    const std::string family = file->family;
    files_.emplace(std::pair{file->device(), file->inode()}, std::move(file));
    catch_up(files_, family);
  }

  void discover(bool first) {
    discovered_once_ = true;
    for (auto& [id, file] : files_) file->attached = false;
    const std::set<std::string> paths = matching_paths();
    if (paths.empty() && files_.empty())
      intake_.problems().set(about("paths"), "no file matches");
    else
      intake_.problems().clear(about("paths"));
    if (known_paths_.size() < kMostKnownPaths) known_paths_.insert(paths.begin(), paths.end());
    for (const std::string& path : paths) {
      struct stat info;
      if (::stat(path.c_str(), &info) != 0) {
        if (errno != ENOENT)
          intake_.problems().set(about(path), std::string("cannot be read: ") + std::strerror(errno));
        continue;
      }
      if (!S_ISREG(info.st_mode)) continue;
      if (is_own_output(info)) {
        intake_.problems().set(about(path),
                               "is this program's own output and is not read: it would feed itself");
        continue;
      }
      auto known = files_.find({info.st_dev, info.st_ino});
      if (known != files_.end()) {
        known->second->attached = true;
        if (known->second->checkpoint.path != path) catch_up(files_, known->second->family);
        known->second->checkpoint.path = path;
        continue;
      }
      if (files_.size() >= static_cast<std::size_t>(options_.number("most_files"))) {
        intake_.problems().set(about("files"),
                               "more files match than `most_files` allows; the rest is not read");
        continue;
      }
      if (auto file = open(path, first)) {
        file->attached = true;
        take(std::move(file));
      }
    }
    for (auto& [id, file] : files_)
      if (file->attached)
        file->detached_at = 0;
      else if (file->detached_at == 0)
        file->detached_at = system_now(), file->catching_up = true;
  }

  std::unique_ptr<TrackedFile> open(const std::string& path, bool first) {
    const int fd = ::open(path.c_str(), O_RDONLY | O_CLOEXEC | O_NONBLOCK);
    if (fd < 0) {
      if (errno != ENOENT)
        intake_.problems().set(about(path), std::string("cannot be read: ") + std::strerror(errno));
      return nullptr;
    }
    intake_.problems().clear(about(path));
    struct stat info;
    if (::fstat(fd, &info) != 0 || !S_ISREG(info.st_mode)) {
      ::close(fd);
      return nullptr;
    }
    auto file = std::make_unique<TrackedFile>(fd, info.st_dev, info.st_ino);
    file->changed_at = system_now();
    file->seen_size = static_cast<std::uint64_t>(info.st_size);
    std::optional<FileCheckpoint> kept;
    if (auto bytes = intake_.spool().state(key(*file))) kept = FileCheckpoint::decode(*bytes);
    if (kept) file->checkpoint = *kept;
    file->known = kept.has_value();
    if (!kept || static_cast<std::uint64_t>(info.st_size) < file->checkpoint.position || !file->verify()) {
      if (kept) count("replaced", 1);
      file->known = false;
      file->restart();
      if (!kept) file->checkpoint.stream = stream_of_file(fd, intake_.spool().identity().spool_id, name_);
      if (!kept && first && options_.text("begin") == "end")
        file->advance(static_cast<std::uint64_t>(info.st_size));
    }
    file->family = family_of(file->known ? kept->path : path);
    file->checkpoint.path = path;
    auto resource = std::make_shared<Resource>();
    resource->zone = zone_;
    for (const auto& [field, text] : resource_) resource->add(field, text);
    resource->add("log.file.path", path);
    if (!host_.empty()) resource->add("host.name", host_);
    file->resource = resource;
    return file;
  }

  static void list_inodes(const std::string& folder, std::map<std::uint64_t, std::string>& names) {
    DIR* dir = folder.empty() ? nullptr : ::opendir(folder.c_str());
    if (dir == nullptr) return;
    while (const dirent* entry = ::readdir(dir)) names.insert_or_assign(entry->d_ino, entry->d_name);
    ::closedir(dir);
  }

  // Files that were renamed while nobody looked, and that the paths do not match any more, still hold lines
  // to be read: they are looked for by their inodes in the folders where they were last seen.
  void find_rotated_away() {
    std::map<std::string, std::map<std::uint64_t, std::string>> folders;  // inode -> name
    const std::string prefix = "file/" + name_ + "/";
    std::vector<StateChange> gone;
    for (const auto& [state_key, bytes] : intake_.spool().state_with_prefix(prefix)) {
      auto kept = FileCheckpoint::decode(bytes);
      const std::string id = state_key.substr(prefix.size());
      const std::uint64_t inode = std::strtoull(id.c_str() + id.find(':') + 1, nullptr, 10);
      const std::string folder = kept ? kept->path.substr(0, kept->path.rfind('/') + 1) : "";
      auto [it, fresh] = folders.try_emplace(folder);
      if (fresh) list_inodes(folder, it->second);
      auto found = it->second.find(inode);
      // A file that is renamed while its folder is listed may be missing in the list.
      for (int again = 0; again < 2 && found == it->second.end(); ++again) {
        list_inodes(folder, it->second);
        found = it->second.find(inode);
      }
      if (found == it->second.end()) {
        gone.push_back({state_key, "", true});
        continue;
      }
      auto file = open(folder + found->second, false);
      if (!file || file->key() != id) continue;
      file->attached = false;
      file->detached_at = system_now();
      take(std::move(file));
    }
    if (!gone.empty()) intake_.spool().note({gone, {}});
  }

  // A file that no path leads to any more is read to its end, and then some seconds longer. What was seen of
  // it may be old: it may have waited for others.
  bool is_done(TrackedFile& file) {
    if (file.attached || file.catching_up) return false;
    struct stat info;
    if (::fstat(file.fd(), &info) != 0 ||
        static_cast<std::uint64_t>(info.st_size) != file.checkpoint.position)
      return false;
    if (system_now() - std::max(file.detached_at, file.changed_at) < kCloseAfter) return false;
    if (info.st_nlink == 0) intake_.spool().note({{{key(file), "", true}}, {}});
    return true;
  }

  // ---- reading ----

  void count(const char* what, std::int64_t n) {
    intake_.spool().count({{"source/" + name_ + "/" + what, n}});
  }

  // Reads the next chunk and hands its lines in. True if there may be more at once.
  bool read_some(TrackedFile& file) {
    struct stat info;
    if (::fstat(file.fd(), &info) != 0) return false;
    const auto size = static_cast<std::uint64_t>(info.st_size);
    const std::int64_t now = system_now();
    // The time of change tells of a file that was written anew with the same size.
    const std::int64_t modified = info.st_mtim.tv_sec * kSecond + info.st_mtim.tv_nsec;
    const bool changed = size != file.seen_size || modified != file.seen_modified;
    file.seen_modified = modified;
    if (size < file.checkpoint.position || (changed && !file.verify())) {
      count("truncated", 1);
      file.restart();
    }
    if (size != file.seen_size || file.changed_at > now) file.seen_size = size, file.changed_at = now;
    if (size == file.checkpoint.position) return false;
    const std::int64_t quiet = now - file.changed_at;
    // What stands at the end without a newline, and an event that may go on, are taken after a while.
    const bool ends = quiet >= (split_.joins() ? options_.section("join").number("wait")
                                               : options_.number("unfinished_after")) ||
                      (file.detached_at != 0 && quiet >= kCloseAfter / 2);
    if (size == file.waiting_size && !ends) return false;
    const std::size_t most = std::max(kChunk, split_.longest_line + split_.most_bytes + 2);
    for (std::size_t want = kChunk;; want = most) {
      auto buffer =
          std::make_shared<LineBuffer>(std::min<std::uint64_t>(want, size - file.checkpoint.position));
      const ssize_t n = ::pread(file.fd(), buffer->bytes.get(), buffer->capacity,
                                static_cast<off_t>(file.checkpoint.position));
      if (n <= 0) {
        if (n < 0)
          intake_.problems().set(about(file.checkpoint.path),
                                 std::string("cannot be read: ") + std::strerror(errno));
        return false;
      }
      buffer->finish(static_cast<std::size_t>(n));
      const bool to_end = file.checkpoint.position + static_cast<std::uint64_t>(n) >= size;
      const std::string_view chunk(buffer->bytes.get(), buffer->size);
      Split s = split(chunk, split_, file.checkpoint.skipping, (ends && to_end) || want >= most);
      if (s.consumed == 0) {
        if (!to_end && want < most) continue;
        file.waiting_size = size;
        return false;
      }
      file.waiting_size = 0;
      return hand_in(file, std::move(buffer), std::move(s), now);
    }
  }

  bool hand_in(TrackedFile& file, std::shared_ptr<LineBuffer> buffer, Split s, std::int64_t now) {
    SourceBatch batch;
    batch.source = name_;
    batch.stream = file.checkpoint.stream;
    batch.resource = file.resource;
    batch.observed = now;
    const std::uint64_t base = file.checkpoint.base + file.checkpoint.position;
    for (SourceLine& line : s.events) line.position += base;
    std::uint64_t invalid = 0;
    if (!simdjson::validate_utf8(buffer->bytes.get(), s.consumed))
      for (const SourceLine& line : s.events)
        invalid += !simdjson::validate_utf8(line.text.data(), line.text.size());
    file.advance(file.checkpoint.position + s.consumed);
    file.checkpoint.skipping = s.skipping;
    batch.lines = std::move(s.events);
    batch.changes.state.push_back({key(file), file.checkpoint.encode(), false});
    auto add = [&](const char* what, std::uint64_t n) {
      if (n) batch.changes.counters.push_back({"source/" + name_ + "/" + what, static_cast<std::int64_t>(n)});
    };
    add("lines", s.lines);
    add("empty", s.empty);
    add("joined", s.merged);
    add("events", batch.lines.size());
    add("bytes", s.consumed);
    add("cut", s.cut);
    add("cut_bytes", s.cut_bytes);
    add("invalid_utf8", invalid);
    batch.buffer = std::move(buffer);
    look_behind();  // handing in may wait
    refused_ = !intake_.submit(std::move(batch));
    return !refused_;
  }

  const std::string name_;
  const Options options_;
  const std::vector<std::pair<std::string, std::string>> resource_;
  const Zone zone_;
  Intake& intake_;
  SplitSettings split_;
  std::string host_;
  TrackedFiles files_;
  bool discovered_once_ = false;
  bool refused_ =
      false;  // the engine takes no more: what is in memory is ahead of the spool and must not be used
  std::atomic<std::uint64_t> bytes_behind_{0}, open_files_{0};
  std::atomic<bool> stopping_{false};
  FolderWatch watch_;
  std::set<std::string> known_paths_;  // that led to files of this source
  std::thread thread_;
};

std::shared_ptr<const Prepared> prepare(const SourceChecking& c) {
  auto prepared = std::make_shared<PreparedFiles>();
  prepared->split.longest_line = static_cast<std::size_t>(c.options.number("longest_line"));
  const Options& join = c.options.section("join");
  prepared->split.most_lines = static_cast<std::size_t>(join.number("most_lines"));
  prepared->split.most_bytes = static_cast<std::size_t>(join.number("most_bytes"));
  prepared->split.indented = join.flag("indented");
  auto compile = [&](const char* option) -> std::shared_ptr<const Template> {
    const Node* node = join.node(option);
    if (node == nullptr) return nullptr;
    std::vector<Problem> problems;
    auto t = Template::compile(join.text(option), c.patterns, {.open_end = true}, problems);
    for (const Problem& p : problems) c.findings.error_within(*node, p);
    return t;
  };
  prepared->split.starts_with = compile("starts_with");
  prepared->split.continues_with = compile("continues_with");
  return prepared;
}

const SourceKind kKind{
    {"files",
     "Reads lines that are appended to files. Finds new files while it runs, follows files that are renamed, "
     "and goes on after a restart where it was.",
     "files: { paths: [/var/log/skerry/gate*.log] }",
     {{.name = "paths", .type = OptionType::texts, .text = "Paths, with * ? [] and {a,b}.", .required = true},
      {.name = "exclude",
       .type = OptionType::texts,
       .fallback = "",
       .text = "Paths or file names that are not read, with the same signs. Compressed files are never read: "
               "`*.gz`, `*.zst`, `*.xz`, `*.bz2`."},
      {.name = "begin",
       .type = OptionType::choice,
       .fallback = "start",
       .text = "Where reading begins in files that are there at the first start.",
       .choices = {"start", "end"}},
      {.name = "longest_line",
       .type = OptionType::size,
       .fallback = "1MiB",
       .text = "Longer lines are cut there; what is cut off is counted.",
       .least = 64},
      {.name = "unfinished_after",
       .type = OptionType::duration,
       .fallback = "5s",
       .text = "A last line without a newline is taken when the file did not grow for that long."},
      {.name = "most_files",
       .type = OptionType::integer,
       .fallback = "1000",
       .text = "How many files are read at once.",
       .least = 1},
      {.name = "join",
       .type = OptionType::section,
       .text = "Joins lines that belong together to one event.",
       .section = {{.name = "starts_with",
                    .type = OptionType::template_text,
                    .text = "A new event starts with a line that begins with this template; other lines "
                            "belong to the event before them."},
                   {.name = "indented",
                    .type = OptionType::boolean,
                    .fallback = "false",
                    .text = "Lines that begin with a blank or tab belong to the event before them."},
                   {.name = "continues_with",
                    .type = OptionType::template_text,
                    .text =
                        "Lines that begin with this template belong to the event before them, for instance "
                        "`Caused by: {:rest}`."},
                   {.name = "wait",
                    .type = OptionType::duration,
                    .fallback = "1s",
                    .text = "How long the last event of a file waits for further lines."},
                   {.name = "most_lines",
                    .type = OptionType::integer,
                    .fallback = "500",
                    .text = "More lines begin a new event.",
                    .least = 1},
                   {.name = "most_bytes",
                    .type = OptionType::size,
                    .fallback = "256KiB",
                    .text = "More bytes begin a new event.",
                    .least = 64}}}}},
    prepare,
    [](const SourceMaking& m) -> std::unique_ptr<Source> { return std::make_unique<Files>(m); }};
const SourceRegistration registration(kKind);

}  // namespace
}  // namespace dingle
