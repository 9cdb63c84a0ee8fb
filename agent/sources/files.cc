// files: lines appended to files, found by path patterns.
#include <sys/stat.h>

#include <algorithm>
#include <atomic>
#include <set>
#include <thread>
#include <unordered_map>

#include "agent/guarded.h"
#include "agent/sources/attention.h"
#include "agent/sources/file_finder.h"
#include "agent/sources/file_reader.h"
#include "agent/sources/read_files.h"
#include "agent/sources/reading_order.h"
#include "agent/sources/rotation.h"
#include "agent/sources/source.h"
#include "core/time/instant.h"

namespace dingle {
namespace {

constexpr int kPollMs = 40;
constexpr std::int64_t kLookBehindEvery = 200'000'000;  // ns
constexpr std::size_t kLooksARound = 800;               // at files that are quiet
constexpr std::int64_t kListEvery = kSecond;
constexpr std::int64_t kListShare = 100;  // listing many files takes no more than this part of the time
constexpr int kChunksInARow = 64;         // of one file, while others wait
constexpr int kPausesAfterFault = 25;

class PreparedFiles final : public Prepared {
 public:
  SplitSettings settings;
  const SplitSettings* split() const override { return &settings; }
};

class Files final : public Source {
 public:
  explicit Files(const SourceMaking& m)
      : name_(m.settings.name),
        attention_(m.clock),
        intake_(m.intake),
        counters_(m.intake.spool(), m.settings.name),
        rotation_(files_,
                  {[this](TrackedFile& file, std::uint64_t most) { return reader_.read(file, most); },
                   [this](const TrackedFile& copy, const TrackedFile& original) { keep(copy, original); },
                   [this](const std::string& path, const std::string& problem) { tell(path, problem); }},
                  attention_),
        finder_(m, attention_, files_, rotation_),
        reader_(
            m, attention_, split_of(m.settings),
            {[this](TrackedFile& file, FileCheckpoint before) {
               if (auto changes = note_read(intake_.spool(), name_, before); !changes.empty())
                 intake_.spool().note({std::move(changes), {}});
               rotation_.truncated(file, std::move(before));
               list_now_ = true;  // where is the rest?
             },
             [this](TrackedFile& file, std::string_view read) {
               list_now_ |= finder_.has_news();
               return !list_now_ && rotation_.may_begin(file, read);
             },
             [this] {
               // With thousands of files it is dear, and each hands in something.
               if (files_.size() < kLooksARound || attention_.steady() - looked_behind_ >= kLookBehindEvery)
                 look_behind();
             }}) {}
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
  static SplitSettings split_of(const SourceSettings& settings) {
    return settings.prepared ? *settings.prepared->split() : SplitSettings();
  }
  std::string key(const TrackedFile& file) const { return "file/" + name_ + "/" + file.key(); }
  bool goes_on() const { return !stopping_ && !reader_.refused(); }

  void run() {
    const std::string about = "source " + name_ + ": unforeseen";
    // What was found stays: another look at all of it goes on from there.
    while (goes_on() && !guarded(intake_.problems(), about, [this] { look(); })) {
      list_now_ = true;
      wake_all();
      for (int i = 0; i < kPausesAfterFault && goes_on(); ++i) finder_.follow_renames(kPollMs, false);
    }
    reader_.gathering().flush();
    awake_.clear();
    files_.clear();
  }

  // Until it is stopped.
  void look() {
    if (!std::exchange(knows_, true)) finder_.find_known();
    while (goes_on()) {
      attention_.look();
      const std::int64_t begun = attention_.steady();
      if (std::exchange(list_now_, false) || begun >= list_at_) {
        finder_.list(first_);
        // What lost its name while folders were listed holds earlier lines than what was found by that name.
        hear(finder_.follow_renames(0, first_));
        first_ = false;
        rotation_.looked();
        wake_all();
        look_behind();
        list_at_ =
            begun + std::clamp(kListShare * (attention_.steady() - begun), kListEvery, 10 * kListEvery);
      }
      const bool any = read_round();
      look_behind();
      hear(finder_.follow_renames(pause(any, begun), false));
      reader_.gathering().flush_if_due();
    }
  }

  // How long to wait for news, in ms. A round that brought little is followed by the next one a moment later: what comes
  // meanwhile is read together.
  int pause(bool any, std::int64_t begun) {
    Gathering& gathering = reader_.gathering();
    if (gathering.empty() || (any && gathering.last() >= begun)) return any ? 0 : kPollMs;
    const std::int64_t until = any ? begun + Gathering::kMoment : gathering.due();
    if (const std::int64_t left = until - attention_.steady(); left > 0 && !stopping_)
      std::this_thread::sleep_for(std::chrono::nanoseconds(left));
    gathering.flush_if_due();
    return any || !gathering.empty() ? 0 : kPollMs;
  }

  void hear(const FileFinder::News& news) {
    list_now_ |= news.lists;
    for (const std::string& path : news.written)
      if (const auto found = by_path_.find(path); found != by_path_.end()) {
        TrackedFile& file = *found->second;
        file.heard = true, file.unheard = false;
        wake(file);
      }
  }
  void wake(TrackedFile& file) {
    if (std::exchange(file.asleep, false)) awake_.push_back(&file);
  }
  // Also those of which nobody may tell.
  void wake_all() {
    awake_.clear();
    by_path_.clear();
    for (const auto& [id, file] : files_) {
      file->asleep = false;
      awake_.push_back(file.get());
      if (file->attached) by_path_[file->checkpoint.path] = file.get();
    }
    woken_ = true;
  }

  // A piece of each file. True if there may be more at once.
  bool read_round() {
    bool any = false;
    std::set<std::string> waiting;  // families with earlier lines
    for (TrackedFile* file : to_catch_up(awake_)) {
      if (waiting.count(file->family)) continue;
      Looked looked = Looked::more;
      for (int i = 0; looked == Looked::more && i < kChunksInARow && goes_on(); ++i) looked = read_on(*file);
      any |= looked == Looked::more;
      if (looked == Looked::more)
        waiting.insert(file->family);
      else if (looked == Looked::no_more)
        file->catching_up = false, file->known = true;
    }
    const bool woken = std::exchange(woken_, false);
    const std::size_t rounds = 1 + awake_.size() / kLooksARound;
    std::size_t index = ++round_, kept = 0;
    for (TrackedFile* const it : std::vector(awake_)) {
      TrackedFile& file = *it;
      if (!goes_on() || (!woken && ++index % rounds != 0 && is_quiet(file))) {
        awake_[kept++] = it;
        continue;
      }
      const std::uint64_t size = file.seen_size;
      if (!file.catching_up) any |= read_on(file) == Looked::more;
      if (!reader_.refused() && is_done(file)) {
        rotation_.left(file);
        files_.erase(file.id());
        continue;
      }
      if (woken && file.slept && file.seen_size != size) file.unheard = !file.heard;
      file.asleep = file.slept = is_quiet(file) && !file.unheard;
      if (!file.asleep) awake_[kept++] = it;
    }
    awake_.resize(kept);
    return any;
  }

  // Nothing came at the last look, or whatever comes will be told; and nothing is waited for.
  static bool is_quiet(const TrackedFile& file) {
    return (!file.grew || file.heard) && file.attached && !file.catching_up && file.known &&
           file.waiting_size == 0 && !file.just_cut && !file.closing && !file.lost && file.may_copy.empty() &&
           file.checkpoint.position == file.seen_size;
  }

  enum class Looked { more, no_more, held };  // held: what is there has to wait
  Looked read_on(TrackedFile& file) {
    const auto most = rotation_.turn_of(file);
    if (most && reader_.read(file, *most)) return Looked::more;
    return most && !list_now_ ? Looked::no_more : Looked::held;
  }

  // A file that no path leads to any more is read to its end, and then some seconds longer. What was seen of
  // it may be old: it may have waited for others.
  bool is_done(TrackedFile& file) {
    if (file.attached || file.catching_up) return false;
    struct stat info;
    if (::fstat(file.fd(), &info) != 0 ||
        static_cast<std::uint64_t>(info.st_size) != file.checkpoint.position)
      return false;
    if (attention_.steady() - std::max(file.detached_at, file.changed_at) < kCloseAfter) return false;
    if (info.st_nlink == 0) {
      std::vector<StateChange> changes = note_read(intake_.spool(), name_, file.checkpoint);
      changes.push_back({key(file), "", true});
      reader_.hand_in({std::move(changes), {}});
    }
    return true;
  }

  void look_behind() {
    looked_behind_ = attention_.steady();
    std::uint64_t behind = 0;
    for (const TrackedFile* file : awake_)
      behind += file->seen_size - std::min(file->seen_size, file->checkpoint.position);
    open_files_ = files_.size();
    bytes_behind_ = static_cast<std::int64_t>(behind);
  }
  void keep(const TrackedFile& copy, const TrackedFile& original) {
    reader_.hand_in(
        {{{key(copy), copy.checkpoint.encode(), false}, {key(original), original.checkpoint.encode(), false}},
         {{counters_.id("copies"), 1}}});
  }
  void tell(const std::string& path, const std::string& problem) {
    const std::string about = "source " + name_ + ": " + path + ": order";
    if (problem.empty())
      intake_.problems().clear(about);
    else
      intake_.problems().set(about, problem);
  }

  const std::string name_;
  Attention attention_;
  Intake& intake_;
  const SourceCounters counters_;
  TrackedFiles files_;
  std::vector<TrackedFile*> awake_;                        // of files_
  std::unordered_map<std::string, TrackedFile*> by_path_;  // as they were called when folders were listed
  bool woken_ = false;                                     // all of them were, since the last round
  Rotation rotation_;
  FileFinder finder_;
  FileReader reader_;
  bool list_now_ = true;  // before the beginning of any file is handed in
  bool knows_ = false;    // the files of earlier runs were looked for
  bool first_ = true;     // folders were not listed yet
  std::int64_t list_at_ = 0;
  std::size_t round_ = 0;
  std::int64_t looked_behind_ = 0;
  std::atomic<std::int64_t> bytes_behind_{-1};  // -1: not known yet
  std::atomic<std::uint64_t> open_files_{0};
  std::atomic<bool> stopping_{false};
  std::thread thread_;
};

std::shared_ptr<const Prepared> prepare_files(const Checking& c) {
  const PathPatterns nothing({}, {"*.gz", "*.zst", "*.xz", "*.bz2"});
  for (const std::string& path : c.options.texts("paths"))
    if (path.find_first_of("*?[{") == std::string::npos && nothing.is_excluded(path))
      c.findings.warning(c.options.where("paths"), "`" + path + "` is never read: it is a compressed file",
                         "name the file that is written to");
    else if (path.ends_with('/'))
      c.findings.warning(c.options.where("paths"), "`" + path + "` is a folder",
                         "name the files in it: " + path + "*");
  auto prepared = std::make_shared<PreparedFiles>();
  prepared->settings.longest_line = static_cast<std::size_t>(c.options.number("longest_line"));
  const Options& join = c.options.section("join");
  prepared->settings.most_lines = static_cast<std::size_t>(join.number("most_lines"));
  prepared->settings.most_bytes = static_cast<std::size_t>(join.number("most_bytes"));
  prepared->settings.indented = join.flag("indented");
  prepared->settings.quoted = join.flag("quoted");
  auto compile = [&](const char* option) -> std::shared_ptr<const Template> {
    const Node* node = join.node(option);
    if (node == nullptr) return nullptr;
    std::vector<Problem> problems;
    auto t = Template::compile(join.text(option), c.patterns, {.open_end = true}, problems);
    for (const Problem& p : problems) c.findings.error_within(*node, p);
    return t;
  };
  prepared->settings.starts_with = compile("starts_with");
  prepared->settings.continues_with = compile("continues_with");
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
       .section =
           {{.name = "starts_with",
             .type = OptionType::template_text,
             .text = "A new event starts with a line that begins with this template; other lines "
                     "belong to the event before them."},
            {.name = "indented",
             .type = OptionType::boolean,
             .fallback = "false",
             .text = "Lines that begin with a blank or tab belong to the event before them."},
            {.name = "quoted",
             .type = OptionType::boolean,
             .fallback = "false",
             .text =
                 "A line that ends within double quotes goes on with the next one, as in CSV (RFC 4180)."},
            {.name = "continues_with",
             .type = OptionType::template_text,
             .text = "Lines that begin with this template belong to the event before them, for instance "
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
    prepare_files,
    [](const SourceMaking& m) -> std::unique_ptr<Source> { return std::make_unique<Files>(m); },
    {"log.file.path", "host.name"}};
const SourceRegistration files_source(kFilesSource);

}  // namespace
}  // namespace dingle
