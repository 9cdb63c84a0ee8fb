// files: events in files of their own, by a template of their path. A file is written as NAME.part and gets
// its name when it is finished: large or old enough, or idle. At least once: after a crash the last events
// may stand twice, with the same `dingle.id`; a torn end is cut off.
#include <fcntl.h>
#include <sys/file.h>
#include <sys/mman.h>
#include <sys/stat.h>
#include <unistd.h>

#include <cerrno>
#include <cstring>
#include <filesystem>
#include <fstream>
#include <list>
#include <map>

#include "agent/destinations/compression.h"
#include "agent/destinations/destination.h"
#include "agent/destinations/rendering.h"
#include "core/time/instant.h"
#include "spool/whole_file.h"

namespace dingle {
namespace {

constexpr std::size_t kMostOpen = 64;
constexpr std::size_t kPiece = 512u << 10;  // of a delivery, written at once
constexpr std::size_t kTail = 16u << 20;    // of an uncompressed file, in which its last line ends

enum class Form { ndjson, csv, body };

class OutputFile {
 public:
  OutputFile(std::string path, Compression compression) : path_(std::move(path)), compression_(compression) {}
  OutputFile(const OutputFile&) = delete;
  OutputFile& operator=(const OutputFile&) = delete;
  ~OutputFile() {
    if (fd_ >= 0) ::close(fd_);
  }
  const std::string& path() const { return path_; }
  std::uint64_t size() const { return size_; }
  std::int64_t opened_at() const { return opened_at_; }
  std::int64_t written_at() const { return written_at_; }

  // An errno value. What a crash left half written is cut off.
  int open() {
    std::error_code ignored;
    std::filesystem::create_directories(std::filesystem::path(path_).parent_path(), ignored);
    fd_ = ::open(part().c_str(), O_RDWR | O_CREAT | O_APPEND | O_CLOEXEC | O_NOFOLLOW, 0640);
    if (fd_ < 0) return errno;
    // Another program may be at it, or has just finished it.
    struct stat info {
    }, named{};
    if (::flock(fd_, LOCK_EX | LOCK_NB) != 0) return errno;
    if (::fstat(fd_, &info) != 0 || ::stat(part().c_str(), &named) != 0) return errno;
    if (info.st_ino != named.st_ino) return EWOULDBLOCK;
    const auto all = static_cast<std::uint64_t>(info.st_size);
    const std::uint64_t from = compression_ == Compression::none && all > kTail ? all - kTail : 0;
    if (all != 0) {  // a large file need not be in memory all at once
      void* const mapped = ::mmap(nullptr, all, PROT_READ, MAP_SHARED, fd_, 0);
      if (mapped == MAP_FAILED) return errno;
      const std::string_view bytes(static_cast<const char*>(mapped), all);
      size_ = from + whole_length(compression_, bytes.substr(from));
      ::munmap(mapped, all);
    }
    if (size_ != all && ::ftruncate(fd_, static_cast<off_t>(size_)) != 0) return errno;
    opened_at_ = written_at_ = system_now();
    return sync_folder();
  }
  // Part of what `commit` makes durable; an errno value.
  int append(std::string_view bytes) {
    appended_ += bytes.size();
    while (!bytes.empty()) {
      const ssize_t n = ::write(fd_, bytes.data(), bytes.size());
      if (n < 0 && errno != EINTR) return errno;
      if (n > 0) bytes.remove_prefix(static_cast<std::size_t>(n));
    }
    return 0;
  }
  // All that was appended durably, or an errno value and nothing of it; also after a failed append.
  int commit(int error) {
    if (error == 0 && ::fdatasync(fd_) != 0) error = errno;
    const std::uint64_t appended = std::exchange(appended_, 0);
    if (error != 0) return ::ftruncate(fd_, static_cast<off_t>(size_)) != 0 ? errno : error;
    size_ += appended;
    written_at_ = system_now();
    return 0;
  }
  // Gives it its name; if there is a file of that name, one with a number.
  int finish() {
    const std::filesystem::path wanted(path_);
    std::string stem = wanted.filename().string(), rest;
    if (const std::size_t dot = stem.find('.', 1); dot != std::string::npos)
      rest = stem.substr(dot), stem.resize(dot);
    for (int n = 1; n < 1'000'000; ++n) {
      const std::string name = stem + (n == 1 ? "" : "." + std::to_string(n)) + rest;
      const std::string to = (wanted.parent_path() / name).string();
      if (::link(part().c_str(), to.c_str()) == 0) break;
      if (errno != EEXIST) return errno;
    }
    if (::unlink(part().c_str()) != 0) return errno;
    return sync_folder();
  }

 private:
  std::string part() const { return path_ + ".part"; }
  int sync_folder() const {
    const int folder =
        ::open(std::filesystem::path(path_).parent_path().c_str(), O_RDONLY | O_DIRECTORY | O_CLOEXEC);
    if (folder < 0) return errno;
    const int error = ::fsync(folder) == 0 ? 0 : errno;
    ::close(folder);
    return error;
  }
  std::string path_;
  Compression compression_;
  int fd_ = -1;
  std::uint64_t size_ = 0, appended_ = 0;
  std::int64_t opened_at_ = 0, written_at_ = 0;
};

class Files final : public Destination {
 public:
  // `list`: the file that names the unfinished files, so that they are found again after a restart.
  Files(const Options& o, std::string list) : rendering_(o.section("events")), list_(std::move(list)) {
    form_ = o.text("form") == "csv" ? Form::csv : o.text("form") == "body" ? Form::body : Form::ndjson;
    compression_ = compression_named(o.text("compression"));
    const Options& rotate = o.section("rotate");
    most_ = static_cast<std::uint64_t>(rotate.number("size"));
    age_ = rotate.number("age");
    idle_ = rotate.number("idle");
    std::ifstream in(list_);
    for (std::string path; std::getline(in, path);) {
      if (!std::filesystem::exists(path + ".part")) continue;
      auto file = std::make_unique<OutputFile>(path, compression_);
      if (file->open() == 0) open_.push_back(std::move(file));
    }
  }

  Delivery deliver(std::span<const DeliveryEvent> events) override {
    std::map<std::string_view, std::vector<std::size_t>> by_path;
    for (std::size_t i = 0; i < events.size(); ++i) by_path[events[i].event.name].push_back(i);
    Delivery d;
    d.outcomes.assign(events.size(), Outcome{});
    for (const auto& [path, which] : by_path) {
      std::string reason = write(std::string(path), events, which);
      // A name that is too long stays so: it is the events' own.
      const auto form = name_too_long_ ? Outcome::Form::refused : Outcome::Form::retry;
      if (!reason.empty())
        for (std::size_t i : which) d.outcomes[i] = {form, reason};
    }
    finish_old();
    return d;
  }
  Housekeeping idle() override { return finish_old(), Housekeeping{}; }

 private:
  bool name_too_long_ = false;  // of the file that was written last
  // "" or what went wrong.
  std::string write(const std::string& name, std::span<const DeliveryEvent> events,
                    const std::vector<std::size_t>& which) {
    std::string path = name;
    if (!path.ends_with(file_extension(compression_))) path += file_extension(compression_);
    auto it = std::find_if(open_.begin(), open_.end(), [&](const auto& f) { return f->path() == path; });
    if (it == open_.end()) {
      auto file = std::make_unique<OutputFile>(path, compression_);
      const int error = file->open();
      name_too_long_ = error == ENAMETOOLONG;
      if (error != 0)
        return path +
               ".part: " + (error == EWOULDBLOCK ? "another program is writing it" : std::strerror(error));
      open_.push_front(std::move(file));
      if (open_.size() > kMostOpen) {  // the one that was not needed for longest is finished
        open_.back()->finish();
        open_.pop_back();
      }
      if (const int failed = note_open()) {
        open_.pop_front();
        return "cannot note which files are being written in " + list_ + ": " + std::strerror(failed);
      }
    } else {
      open_.splice(open_.begin(), open_, it);
    }
    OutputFile& file = *open_.front();
    int error = 0;
    std::string text;
    auto append = [&] {
      if (error == 0 && !text.empty())
        error =
            compression_ == Compression::none ? file.append(text) : file.append(compress(compression_, text));
      text.clear();
    };
    if (form_ == Form::csv && file.size() == 0) rendering_.append_csv_head(text);
    for (std::size_t i : which) {
      const SpooledEvent& e = events[i].event;
      if (form_ == Form::csv) {
        rendering_.append_csv(e, text);
      } else {
        if (form_ == Form::ndjson)
          rendering_.append_json(e, text);
        else
          text += e.body;
        text += '\n';
      }
      if (text.size() >= kPiece) append();
    }
    append();
    error = file.commit(error);
    if (error != 0) {
      open_.pop_front();
      return path + ".part: " + std::strerror(error);
    }
    return "";
  }
  void finish_old() {
    const std::int64_t now = system_now();
    const std::size_t before = open_.size();
    for (auto it = open_.begin(); it != open_.end();) {
      const OutputFile& f = **it;
      const bool done = f.size() >= most_ || (age_ != 0 && now - f.opened_at() >= age_) ||
                        (idle_ != 0 && now - f.written_at() >= idle_);
      if (done && f.size() != 0 && (*it)->finish() == 0)
        it = open_.erase(it);
      else
        ++it;
    }
    if (open_.size() != before)
      note_open();  // if not, finished ones are looked for in vain at the next start
  }
  // What a start after a crash finishes. An errno value.
  int note_open() const {
    std::string all;
    for (const auto& file : open_) all += file->path() + '\n';
    return write_whole(list_, all, 0600);
  }
  Rendering rendering_;
  std::string list_;
  Form form_ = Form::ndjson;
  Compression compression_ = Compression::none;
  std::uint64_t most_ = 0;
  std::int64_t age_ = 0, idle_ = 0;
  std::list<std::unique_ptr<OutputFile>> open_;  // the most recently used first
};

const DestinationKind kFilesDestination{
    {"files",
     "Files of events. A file is written as `NAME.part` and renamed when it is finished. At least once: "
     "after "
     "a crash the last events may stand twice, with the same `dingle.id`.",
     "files: { path: '/var/archive/skerry/{service.name}-{day}.ndjson', compression: zstd }",
     {{.name = "path",
       .type = OptionType::text,
       .text = "The file of an event: a path with `{day}`, `{month}` of the event's time, or fields in it.",
       .required = true},
      {.name = "zone", .type = OptionType::zone, .fallback = "UTC", .text = "The zone in which days begin."},
      {.name = "form",
       .type = OptionType::choice,
       .fallback = "ndjson",
       .text =
           "`ndjson`: one JSON object a line; `csv` (RFC 4180): the fields of `events.fields`, with a head; "
           "`body`: the body alone.",
       .choices = {"ndjson", "csv", "body"}},
      {.name = "compression",
       .type = OptionType::choice,
       .fallback = "none",
       .text = "`.gz` or `.zst` is added to the name.",
       .choices = {"none", "gzip", "zstd"}},
      {.name = "rotate",
       .type = OptionType::section,
       .text = "When a file is finished.",
       .section =
           {{.name = "size", .type = OptionType::size, .fallback = "256MiB", .text = "When it is larger."},
            {.name = "age", .type = OptionType::duration, .fallback = "1h", .text = "When it is older."},
            {.name = "idle",
             .type = OptionType::duration,
             .fallback = "10m",
             .text = "When nothing was written so long."}}},
      rendering_option()}},
    true,
    [](const Checking& c) -> std::shared_ptr<const Namer> {
      const Options& options = c.options;
      Findings& findings = c.findings;
      check_rendering(options.section("events"), findings);
      if (options.text("form") == "csv" && options.section("events").texts("fields").empty())
        findings.error(options.where("form"), "`form: csv` needs the fields of its columns",
                       "add events: { fields: [timestamp, body] }");
      if (!options.text("path").starts_with("/"))
        findings.error(options.where("path"), "`path` begins with a slash");
      auto zone = Zone::named(options.text("zone"));
      if (!zone) {
        findings.error_within(options.where("zone"), zone.problem());
        return nullptr;
      }
      auto namer = Namer::parse(options.text("path"), *zone, Namer::Form::path);
      if (!namer) {
        findings.error_within(options.where("path"), namer.problem());
        return nullptr;
      }
      return std::make_shared<Namer>(std::move(*namer));
    },
    [](const DestinationMaking& m) -> std::unique_ptr<Destination> {
      return std::make_unique<Files>(m.settings.options,
                                     m.data + "/unfinished-files-" + std::to_string(m.id));
    }};
const DestinationRegistration files_destination(kFilesDestination);

}  // namespace
}  // namespace dingle
