// files: lines appended to files, found by path patterns.
#include <fcntl.h>
#include <fmt/format.h>
#include <simdjson.h>
#include <sys/stat.h>
#include <unistd.h>

#include <algorithm>
#include <atomic>
#include <cstring>
#include <filesystem>
#include <map>
#include <set>
#include <thread>

#include "agent/sources/folder_watch.h"
#include "agent/sources/known_files.h"
#include "agent/sources/line_splitter.h"
#include "agent/sources/path_patterns.h"
#include "agent/sources/reading_order.h"
#include "agent/sources/rotation.h"
#include "agent/sources/source.h"
#include "agent/sources/tracked_file.h"
#include "core/time/instant.h"

namespace dingle {
namespace {

constexpr std::size_t kChunk = LineBuffer::kUsual;
constexpr std::string_view kByteOrderMark = "\xEF\xBB\xBF";  // of UTF-8; says nothing
constexpr int kPollMs = 40;
constexpr std::int64_t kCloseAfter =
    5 * kSecond;  // a file that no path leads to any more, when nothing was added
constexpr std::int64_t kDiscoverEvery = kSecond;
constexpr int kChunksInARow = 64;  // of one file, while others wait

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
        intake_(m.intake),
        patterns_(options_.texts("paths"), excluded(options_)) {
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
  std::optional<std::uint64_t> bytes_behind() const override {
    if (const std::int64_t behind = bytes_behind_; behind >= 0) return behind;
    return {};
  }
  std::uint64_t open() const override { return open_files_; }

 private:
  static std::vector<std::string> excluded(const Options& options) {
    std::vector<std::string> all{"*.gz", "*.zst", "*.xz", "*.bz2"};
    for (const std::string& pattern : options.texts("exclude")) all.push_back(pattern);
    return all;
  }
  std::string key(const TrackedFile& file) const { return "file/" + name_ + "/" + file.key(); }
  std::string about(const std::string& path) const { return "source " + name_ + ": " + path; }

  void run() {
    known_files_.emplace(intake_.spool(), "file/" + name_ + "/");
    const auto open_it = [this](const std::string& path) { return open(path, false); };
    for (auto& file : known_files_->find(open_it, [this](const std::string&path, const FileCheckpoint&kept) {
           return patterns_.matches(path) || (patterns_.matches(kept.path) && !patterns_.is_excluded(path) &&
                                              why_not_followed(kept.path).empty());
         })) {
      file->attached = false;
      file->detached_at = system_now();
      take(std::move(file));
    }
    std::int64_t discovered = 0;
    while (!stopping_ && !refused_) {
      const std::int64_t now = system_now();
      if (now - discovered >= kDiscoverEvery || now < discovered || std::exchange(discover_now_, false)) {
        const bool first = !discovered_once_;
        discover(first);
        discovered = now;
        look_behind();
        // What lost its name while folders were listed holds earlier lines than what was found by that name.
        if (follow_renames(watch_.wait(0), first)) discovered = 0;
        rotation_.looked();
      }
      bool any = false;
      std::set<std::string> waiting;  // families with earlier lines
      for (TrackedFile* file : to_catch_up(files_)) {
        if (waiting.count(file->family)) continue;
        bool more = true;
        for (int i = 0; more && i < kChunksInARow && !stopping_ && !refused_; ++i) more = read_on(*file);
        any |= more;
        if (more)
          waiting.insert(file->family);
        else if (!file->may_copy)
          file->catching_up = false, file->known = true;
      }
      for (auto it = files_.begin(); it != files_.end() && !stopping_ && !refused_;) {
        TrackedFile& file = *it->second;
        if (!file.catching_up) any |= read_on(file);
        if (!refused_ && is_done(file)) {
          rotation_.left(file);
          it = files_.erase(it);
        } else
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
    open_files_ = files_.size();
    bytes_behind_ = static_cast<std::int64_t>(behind);
  }

  // ---- which files ----

  // A file that got its name and lost it again before folders were listed is opened by its new name. True if
  // folders should be listed now.
  bool follow_renames(const FolderWatch::News& news, bool first) {
    for (const auto& [from, to] : news.renamed) {
      struct stat info;
      if (!patterns_.matches(from) ||
          files_.size() >= static_cast<std::size_t>(options_.number("most_files")) ||
          ::stat(to.c_str(), &info) != 0 || files_.count({info.st_dev, info.st_ino}))
        continue;
      if (auto file = open(to, first)) {
        file->attached = false;
        file->former = from;
        file->detached_at = system_now();
        file->family = family_of(from);
        rotation_.arrived(*file, nullptr);
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
    if (file->lost) count("replaced", 1);
    const std::string family = file->family;
    files_.emplace(std::pair{file->device(), file->inode()}, std::move(file));
    catch_up(files_, family);
  }

  void discover(bool first) {
    discovered_once_ = true;
    const std::int64_t now = system_now();
    std::map<std::string, TrackedFile*> by_path;  // as they were called until now
    for (auto& [id, file] : files_) {
      file->attached = false;
      if (!file->former.empty()) by_path.emplace(file->former, file.get());
    }
    for (auto& [id, file] : files_) by_path[file->checkpoint.path] = file.get();
    const PathPatterns::Found found = watch_.list([this] { return patterns_.find(); });
    const std::set<std::string>& paths = found.paths;
    if (found.too_many)
      intake_.problems().set(
          about("folders"), fmt::format("the paths lead through more than {} folders; the rest is not looked "
                                        "through",
                                        PathPatterns::kMostFolders));
    else
      intake_.problems().clear(about("folders"));
    if (paths.empty() && files_.empty())
      intake_.problems().set(about("paths"), "no file matches");
    else
      intake_.problems().clear(about("paths"));
    for (const std::string& path : paths) {
      struct stat info;
      if (::stat(path.c_str(), &info) != 0) {
        if (errno != ENOENT)
          intake_.problems().set(about(path), std::string("cannot be read: ") + std::strerror(errno));
        continue;
      }
      if (!S_ISREG(info.st_mode)) {
        if (S_ISDIR(info.st_mode) && patterns_.names(path))
          intake_.problems().set(about(path), "is a folder; " + path + "/* names the files in it");
        continue;
      }
      if (const std::string why = why_not_followed(path); !why.empty()) {
        intake_.problems().set(about(path), why);
        continue;
      }
      if (is_own_output(info)) {
        intake_.problems().set(about(path),
                               "is this program's own output and is not read: it would feed itself");
        continue;
      }
      auto known = files_.find({info.st_dev, info.st_ino});
      if (known != files_.end()) {
        TrackedFile& file = *known->second;
        file.attached = true;
        if (file.checkpoint.path != path) {
          catch_up(files_, file.family);
          file.former = std::exchange(file.checkpoint.path, path);
        }
        continue;
      }
      if (files_.size() >= static_cast<std::size_t>(options_.number("most_files"))) {
        intake_.problems().set(about("files"),
                               "more files match than `most_files` allows; the rest is not read");
        continue;
      }
      if (auto file = open(path, first)) {
        file->attached = true;
        if (!first || now - file->seen_modified < kLongestWait) {  // being written to
          const auto before = by_path.find(path);
          rotation_.arrived(*file, before == by_path.end() ? nullptr : before->second);
        }
        take(std::move(file));
      }
    }
    for (auto& [id, file] : files_)
      if (file->attached)
        file->detached_at = 0;
      else if (file->detached_at == 0)
        file->detached_at = system_now(), file->catching_up = true;
  }

  // Why a path is not followed to the file that it leads to, or "".
  std::string why_not_followed(const std::string& path) const {
    std::error_code error;
    const std::string target = std::filesystem::canonical(path, error).string();
    const std::string data = std::filesystem::weakly_canonical(intake_.data_folder(), error).string();
    if (target.starts_with(data + "/")) return "leads into this program's data folder, and is not read";
    struct stat link, info;
    if (::lstat(path.c_str(), &link) != 0 || !S_ISLNK(link.st_mode)) return "";
    const std::string& links = options_.text("links");
    if (links == "never") return "is a symbolic link; `links: never` says not to follow those";
    if (links == "any" || ::stat(path.c_str(), &info) != 0 || link.st_uid == info.st_uid) return "";
    return "is a symbolic link of another owner than the file that it leads to, and is not followed; `links: "
           "any` "
           "would follow it";
  }

  std::unique_ptr<TrackedFile> open(const std::string& path, bool first) {
    if (!why_not_followed(path).empty()) return nullptr;
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
    file->born = birth_of(fd);
    file->seen_modified = info.st_mtim.tv_sec * kSecond + info.st_mtim.tv_nsec;
    file->seen_size = static_cast<std::uint64_t>(info.st_size);
    const auto known = known_files_->recognise(*file);
    file->known = known == KnownFiles::Known::yes;
    file->family = family_of(file->known ? file->checkpoint.path : path);
    if (known == KnownFiles::Known::replaced) file->lost_at = system_now();
    if (!file->known) file->restart();
    if (known == KnownFiles::Known::no) {
      file->checkpoint.stream = stream_of_file(fd, intake_.spool().identity().spool_id, name_);
      if (first && options_.text("begin") == "end") file->advance(static_cast<std::uint64_t>(info.st_size));
    }
    file->checkpoint.path = path;
    auto resource = std::make_shared<Resource>();
    resource->zone = zone_;
    for (const auto& [field, text] : resource_) resource->add(field, text);
    resource->add("log.file.path", path);
    if (!host_.empty()) resource->add("host.name", host_);
    file->resource = resource;
    return file;
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

  bool read_on(TrackedFile& file) {
    const auto most = rotation_.turn_of(file);
    return most && read_some(file, *most);
  }

  // What a program that was cut short writes behind: bytes that were never written. Nothing is in them. True if some were
  // passed over.
  bool skip_hole(TrackedFile& file, std::string_view chunk) {
    if (chunk[0] != '\0' || file.checkpoint.skipping) return false;
    const std::uint64_t from = file.checkpoint.position;
    char before = '\0';
    if (from != 0 && (::pread(file.fd(), &before, 1, static_cast<off_t>(from - 1)) != 1 || before != '\0'))
      return false;
    std::uint64_t to = from + std::min(chunk.find_first_not_of('\0'), chunk.size());
    if (to == from + chunk.size())
      if (const off_t data = ::lseek(file.fd(), static_cast<off_t>(to), SEEK_DATA); data > 0)
        to = static_cast<std::uint64_t>(data);
    file.advance(to);
    intake_.spool().note({{{key(file), file.checkpoint.encode(), false}},
                          {{"source/" + name_ + "/hole_bytes", static_cast<std::int64_t>(to - from)}}});
    return true;
  }

  // Reads the next chunk up to that size and hands its lines in. True if there may be more at once.
  bool read_some(TrackedFile& file, std::uint64_t limit) {
    if (refused_) return false;
    struct stat info;
    if (::fstat(file.fd(), &info) != 0) return false;
    const auto size = static_cast<std::uint64_t>(info.st_size);
    const std::int64_t now = system_now();
    // The time of change tells of a file that was written anew with the same size.
    const std::int64_t modified = info.st_mtim.tv_sec * kSecond + info.st_mtim.tv_nsec;
    const bool changed = size != file.seen_size || modified != file.seen_modified;
    file.seen_modified = modified;
    FileCheckpoint before = changed ? file.detailed() : FileCheckpoint();
    if (size < file.checkpoint.position || (changed && !file.verify())) {
      count("truncated", 1);
      if (!changed) before = file.detailed();
      file.restart();
      rotation_.truncated(file, std::move(before));
      discover_now_ = true;  // where is the rest?
      return false;
    }
    if (size != file.seen_size || file.changed_at > now) file.seen_size = size, file.changed_at = now;
    const std::uint64_t until = std::min(size, limit);
    if (until <= file.checkpoint.position) return false;
    const std::int64_t quiet = now - file.changed_at;
    // What stands at the end without a newline, and an event that may go on, are taken after a while.
    const bool ends =
        quiet >= options_.number("unfinished_after") || (file.detached_at != 0 && quiet >= kCloseAfter / 2);
    const bool closes = ends || file.closing || quiet >= options_.section("join").number("wait");
    if (size == file.waiting_size && !ends && !(closes && split_.joins())) return false;
    const std::size_t most = std::max(kChunk, split_.longest_line + split_.most_bytes + 2);
    for (std::size_t want = kChunk;; want = most) {
      auto buffer =
          std::make_shared<LineBuffer>(std::min<std::uint64_t>(want, until - file.checkpoint.position));
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
      if (skip_hole(file, chunk)) return true;
      const std::size_t mark =
          file.checkpoint.position == 0 && chunk.starts_with(kByteOrderMark) ? kByteOrderMark.size() : 0;
      Split s = split(chunk.substr(mark), split_, file.checkpoint.skipping, ends && to_end, closes && to_end);
      if (s.consumed == 0 && chunk.size() >= most)  // no line and no event is longer
        s = split(chunk.substr(mark), split_, file.checkpoint.skipping, true);
      if (s.consumed != 0) s.consumed += mark;
      for (SourceLine& line : s.events) line.position += mark;
      if (s.consumed == 0) {
        if (chunk.size() == want && want < most) continue;
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
    look_behind();  // handing in may wait, and what waits is behind
    file.advance(file.checkpoint.position + s.consumed);
    file.checkpoint.skipping = s.skipping;
    batch.bytes = s.consumed;
    batch.lines = std::move(s.events);
    batch.changes.state.push_back({key(file), file.checkpoint.encode(), false});
    auto add = [&](const char* what, std::uint64_t n) {
      if (n) batch.changes.counters.push_back({"source/" + name_ + "/" + what, static_cast<std::int64_t>(n)});
    };
    add("lines", s.lines);
    add("empty", s.empty);
    add("joined", s.merged);
    add("events", batch.lines.size());
    add("cut", s.cut);
    add("cut_bytes", s.cut_bytes);
    add("invalid_utf8", invalid);
    batch.buffer = std::move(buffer);
    refused_ = !intake_.submit(std::move(batch));
    look_behind();
    return !refused_;
  }

  const std::string name_;
  const Options options_;
  const std::vector<std::pair<std::string, std::string>> resource_;
  const Zone zone_;
  Intake& intake_;
  const PathPatterns patterns_;
  SplitSettings split_;
  std::string host_;
  std::optional<KnownFiles> known_files_;
  TrackedFiles files_;
  Rotation rotation_{files_,
                     {[this](TrackedFile& file, std::uint64_t most) { return read_some(file, most); },
                      [this](const TrackedFile& copy, const TrackedFile& original) {
                        intake_.spool().note({{{key(copy), copy.checkpoint.encode(), false},
                                               {key(original), original.checkpoint.encode(), false}},
                                              {{"source/" + name_ + "/copies", 1}}});
                      },
                      [this](const std::string& path, const std::string& problem) {
                        if (problem.empty())
                          intake_.problems().clear(about(path) + ": order");
                        else
                          intake_.problems().set(about(path) + ": order", problem);
                      },
                      system_now}};
  bool discover_now_ = false;
  bool discovered_once_ = false;
  bool refused_ =
      false;  // the engine takes no more: what is in memory is ahead of the spool and must not be used
  std::atomic<std::int64_t> bytes_behind_{-1};  // -1: not known yet
  std::atomic<std::uint64_t> open_files_{0};
  std::atomic<bool> stopping_{false};
  FolderWatch watch_;
  std::thread thread_;
};

std::shared_ptr<const Prepared> prepare(const Checking& c) {
  const PathPatterns nothing({}, {"*.gz", "*.zst", "*.xz", "*.bz2"});
  for (const std::string& path : c.options.texts("paths"))
    if (path.find_first_of("*?[{") == std::string::npos && nothing.is_excluded(path))
      c.findings.warning(c.options.where("paths"), "`" + path + "` is never read: it is a compressed file",
                         "name the file that is written to");
    else if (path.ends_with('/'))
      c.findings.warning(c.options.where("paths"), "`" + path + "` is a folder",
                         "name the files in it: " + path + "*");
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

const SourceKind kFilesSource{
    {"files",
     "Reads lines that are appended to files. Finds new files while it runs, follows files that are renamed, "
     "and goes on after a restart where it was.",
     "files: { paths: [/var/log/skerry/gate*.log] }",
     {{.name = "paths",
       .type = OptionType::texts,
       .text = "Paths, with * ? [] and {a,b}, and ** for folders at any depth.",
       .required = true},
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
      {.name = "links",
       .type = OptionType::choice,
       .fallback = "same_owner",
       .text = "Which symbolic links are followed: those that have the owner of the file that they lead to, "
               "all, or "
               "none. Nobody else can then point the program at a file that it may read and they may not.",
       .choices = {"same_owner", "any", "never"}},
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
const SourceRegistration files_source(kFilesSource);

}  // namespace
}  // namespace dingle
