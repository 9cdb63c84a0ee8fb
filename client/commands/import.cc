// dingle import: files that are finished, sent through a pipeline; `dingle import --list` shows those that were.
#include <sys/stat.h>
#include <unistd.h>

#include <algorithm>
#include <chrono>
#include <climits>
#include <cstdlib>
#include <iostream>
#include <set>
#include <thread>
#include <utility>

#include "client/connection.h"
#include "client/table.h"
#include "client/terminal.h"
#include "client/text_file.h"
#include "core/options/options.h"

namespace dingle {
namespace {

using namespace std::chrono_literals;
using Steady = std::chrono::steady_clock;

constexpr auto kAskAgain = 500ms;
constexpr auto kServerAway = 120s;  // so long it is waited for

struct ImportOptions {
  std::vector<std::string> files;
  std::string pipeline, source;
  bool again = false, list = false;
};

std::string absolute(const std::string& path) {
  char whole[PATH_MAX];
  return ::realpath(path.c_str(), whole) != nullptr ? whole : path;
}

std::string percent(std::uint64_t part, std::uint64_t whole) {
  return std::to_string(whole == 0 ? 100 : part * 100 / whole) + " %";
}

// One file on its way.
class Sender {
 public:
  Sender(const Client& client, const ImportOptions& options, const std::string& path)
      : client_(client),
        options_(options),
        path_(path),
        shows_(::isatty(STDERR_FILENO) == 1 && client.output == OutputForm::table) {}

  // An exit status; the import, as it was at last, in `import`.
  int run(Json& import) {
    if (const std::string problem = file_.open(path_); !problem.empty()) return say(problem);
    identity_ = file_.identity();
    std::string problem, text;
    Json reads = Json::array();
    if (!options_.again) {
      const Answer a = call(client_, "GET", "/v1/imports/reads");
      if (!a.ok) return kFoundProblems;
      reads = a.body["reads"];
    }
    std::vector<Rung> rungs = positions_of(reads);
    const auto contents = file_.text_identity(rungs, problem, [&] { show_looked_through(); });
    if (!contents) return damaged(problem);
    for (const Json& read : reads)
      if (holds(read, rungs, contents->size)) return is_read(read, contents->size);
    if (!begin(import, *contents)) return kFoundProblems;
    if (!file_.skip(position_, problem)) return say(problem);
    began_at_ = file_.bytes_read();
    begun_ = answered_ = Steady::now();
    while (!import["done"].get<bool>()) {
      const std::size_t part = import["part"];
      if (text.size() < part && !file_.at_end() && !file_.read(text, part - text.size(), problem))
        return cut_off(problem);
      // What is behind its last byte is not asked for again: so it is looked at as it is now.
      if (file_.at_end() && file_.identity() != identity_) return cut_off("the file has changed meanwhile");
      const Answer sent =
          call(client_, "POST", "/v1/imports/" + import["id"].get<std::string>(),
               {{"position", std::to_string(position_)}, {"last", file_.at_end() ? "true" : "false"}}, false,
               text, "text/plain");
      if (sent.ok) {
        const std::uint64_t reached = sent.body["position"];
        text.erase(0, reached - position_);
        position_ = reached;
        import = sent.body;
        answered_ = Steady::now();
        show(import, "");
        continue;
      }
      if (sent.status != 0 && sent.status != 409 && sent.status != 503) return refused(sent);
      if (sent.status == 503) answered_ = Steady::now();
      if (Steady::now() - answered_ > kServerAway) return cut_off("no dingled answers");
      if (sent.status != 409) {
        show(import,
             sent.status == 0 ? "no dingled answers; it is waited for" : sent.body.value("detail", ""));
        std::this_thread::sleep_for(kAskAgain);
      }
      if (sent.status == 503 && sent.body.value("detail", "").starts_with("it waits")) continue;
      // Where does it go on? The program may have been killed, and had less on disk than it had.
      const Answer now = call(client_, "GET", "/v1/imports/" + import["id"].get<std::string>(), {}, false);
      if (now.status == 404) return cut_off("the server knows nothing of it any more");
      if (!now.ok) continue;
      import = now.body;
      const std::uint64_t goes_on = import["position"];
      if (goes_on >= position_ && goes_on - position_ <= text.size()) {
        text.erase(0, goes_on - position_);
      } else {
        text.clear();
        file_.rewind();
        if (!file_.skip(goes_on, problem)) return cut_off(problem);
      }
      position_ = goes_on;
    }
    if (shows_) show_in_place("");
    return kFine;
  }

 private:
  static std::vector<Rung> positions_of(const Json& reads) {
    std::set<std::uint64_t> positions;
    for (const Json& read : reads)
      for (const Json& rung : read["rungs"]) positions.insert(rung["position"].get<std::uint64_t>());
    std::vector<Rung> rungs;
    for (const std::uint64_t position : positions) rungs.push_back({position, 0});
    return rungs;
  }
  // Whether the text is what was read, as far as both go.
  static bool holds(const Json& read, const std::vector<Rung>& rungs, std::uint64_t size) {
    std::uint64_t highest = 0;
    for (const Json& rung : read["rungs"]) {
      const Rung known{rung["position"].get<std::uint64_t>(), rung["hash"].get<std::uint64_t>()};
      if (known.position > size) continue;
      if (!std::ranges::binary_search(rungs, known, [](const Rung& a, const Rung& b) {
            return std::pair(a.position, a.hash) < std::pair(b.position, b.hash);
          }))
        return false;
      highest = std::max(highest, known.position);
    }
    // Two files may begin alike: one that ends before what was read does is known if it is the same for a quarter of it. The places
    // lie no farther apart.
    return size >= read["position"].get<std::uint64_t>() ? highest != 0 : highest != 0 && size / highest < 4;
  }
  int is_read(const Json& read, std::uint64_t size) {
    const std::uint64_t from = read["from"], to = read["position"];
    const std::string by =
        "the source `" + read["source"].get<std::string>() + "`, as " + read["file"].get<std::string>();
    if (from == 0 && to >= size) {
      say("it was read by " + by);
      std::cerr << "  = --again imports it all the same: each event will then be there twice\n";
    } else {
      say("its bytes " + with_thousands(static_cast<std::int64_t>(from)) + " to " +
          with_thousands(static_cast<std::int64_t>(std::min(to, size))) + " were read by " + by);
      const std::string before = from != 0 ? "head -c " + std::to_string(from) : "",
                        behind = to < size ? "tail -c +" + std::to_string(to + 1) : "";
      std::cerr << "  = import the rest as a file of its own (" << before
                << (before.empty() || behind.empty() ? "" : " and ") << behind
                << "); --again imports all of it, and what was read will be there twice\n";
    }
    return kFoundProblems;
  }

  bool begin(Json& import, const TextFile::Identity& contents) {
    char host[256] = "";
    ::gethostname(host, sizeof host - 1);
    Json body{{"file", absolute(path_)},    {"bytes", contents.size},   {"hash", contents.hash},
              {"device", identity_.device}, {"inode", identity_.inode}, {"pipeline", options_.pipeline}};
    if (*host) body["host"] = host;
    if (!options_.source.empty()) body["source"] = options_.source;
    if (options_.again) body["again"] = true;
    const Answer a = call(client_, "POST", "/v1/imports", {}, true, dump(body));
    if (!a.ok) return false;
    import = a.body;
    position_ = import["position"];
    if (position_ != 0 && client_.output == OutputForm::table)
      std::cerr << path_ << ": goes on at " << format_size(position_) << " of its text, where it was left\n";
    return true;
  }

  int say(const std::string& problem) {
    if (shows_) show_in_place("");
    std::cerr << "dingle: " << path_ << ": " << problem << "\n";
    return kFoundProblems;
  }
  int damaged(const std::string& problem) {
    say(problem);
    std::cerr << "  = nothing of it is sent; decompress what can be read of it, and import that\n";
    return kFoundProblems;
  }
  int cut_off(const std::string& problem) {
    say(problem);
    std::cerr << "  = the first " << format_size(position_)
              << " of its text are imported; the same command goes on from there\n";
    return kFoundProblems;
  }
  int refused(const Answer& answer) {
    say(answer.body.value("detail", "the server answered " + std::to_string(answer.status)));
    if (answer.body.contains("hint")) std::cerr << "  = " << answer.body["hint"].get<std::string>() << "\n";
    return kFoundProblems;
  }

  std::string bar_at(std::uint64_t at) const {
    constexpr std::size_t kBar = 20;
    const std::size_t full = identity_.size == 0 ? kBar : kBar * at / identity_.size;
    std::string bar = path_.substr(path_.rfind('/') + 1) + "  ";
    for (std::size_t i = 0; i < kBar; ++i) bar += i < full ? "█" : "░";
    return bar + "  " + percent(at, identity_.size) + " of " + format_size(identity_.size);
  }
  // Whether it is shown at all, and was not just now.
  bool is_time() {
    const auto now = Steady::now();
    if (!shows_ || now - shown_ < 100ms) return false;
    shown_ = now;
    return true;
  }
  void show_looked_through() {
    if (is_time())
      show_in_place(cut_to_width(bar_at(std::min(file_.bytes_read(), identity_.size)) + " looked through",
                                 client_.width));
  }

  // "gate.log.gz  [#####.....]  52 %  18.2 of 35.0 MiB, 120 000 lines, 48 000/s, 12 s left"
  void show(const Json& import, const std::string& waits) {
    if (!waits.empty()) shown_ = {};
    if (!is_time()) return;
    const std::uint64_t at = std::min(file_.bytes_read(), identity_.size);
    const double seconds = std::chrono::duration<double>(shown_ - begun_).count();
    if (first_lines_ < 0) first_lines_ = import["lines"].get<std::int64_t>();
    const auto lines = import["lines"].get<std::int64_t>();
    std::string line = bar_at(at) + ", " + counted(lines, "line");
    if (!waits.empty()) {
      line += "; " + waits;
    } else if (seconds > 0.5) {
      line += ", " +
              with_thousands(static_cast<std::int64_t>(static_cast<double>(lines - first_lines_) / seconds)) +
              "/s";
      if (at > began_at_)
        line += ", " +
                with_thousands(static_cast<std::int64_t>(seconds * static_cast<double>(identity_.size - at) /
                                                             static_cast<double>(at - began_at_) +
                                                         0.99)) +
                " s left";
    }
    show_in_place(cut_to_width(line, client_.width));
  }

  const Client& client_;
  const ImportOptions& options_;
  const std::string path_;
  const bool shows_;
  TextFile file_;
  TextFile::Identity identity_;
  std::uint64_t position_ = 0, began_at_ = 0;
  std::int64_t first_lines_ = -1;
  Steady::time_point begun_ = Steady::now(), answered_ = Steady::now(), shown_{};
};

// What became of it: "gate.log.gz: 120 000 lines, 119 990 events stored, ..."
std::string told(const std::string& path, const Json& i) {
  const auto n = [&](const char* name) { return i[name].get<std::int64_t>(); };
  std::string text = path + ": " + counted(n("lines"), "line");
  const auto add = [&](const char* name, const std::string& what) {
    if (n(name) != 0) text += ", " + with_thousands(n(name)) + " " + what;
  };
  add("joined", "joined to the lines before them");
  add("empty", "empty");
  add("cut", "cut");
  text += "; " + counted(n("out"), "event") + " sent on";
  add("unmatched", "unmatched");
  add("dropped", "dropped");
  add("not_taken", "not taken by the pipeline");
  return text;
}

int list(const Client& client) {
  const Answer a = call(client, "GET", "/v1/imports");
  if (!a.ok) return kFoundProblems;
  std::vector<Json> rows(a.body["imports"].begin(), a.body["imports"].end());
  if (client.output == OutputForm::table) {
    if (rows.empty()) {
      std::cout << "nothing was ever imported\n";
      return kFine;
    }
    for (Json& row : rows) row["done"] = row["done"].get<bool>() ? "done" : "begun";
  }
  using Look = Column::Look;
  print_rows(client,
             {{"began", "BEGAN", Look::time},
              {"done", "STATE"},
              {"lines", "LINES", Look::count},
              {"out", "EVENTS", Look::count},
              {"unmatched", "UNMATCHED", Look::count},
              {"dropped", "DROPPED", Look::count},
              {"not_taken", "NOT TAKEN", Look::count},
              {"pipeline", "PIPELINE"},
              {"by", "BY"},
              {"file", "FILE"}},
             rows);
  return kFine;
}

int import_all(const Client& client, const ImportOptions& o) {
  int status = kFine;
  for (const std::string& path : o.files) {
    Json import;
    if (const int one = Sender(client, o, path).run(import); one != kFine) {
      status = one;
      continue;
    }
    if (client.output == OutputForm::table)
      std::cout << told(path, import) << "\n";
    else
      std::cout << dump(import, client.output == OutputForm::json ? 2 : -1) << "\n";
    std::cout.flush();
  }
  return status;
}

const CommandRegistration import_command(
    "import",
    "Sends files that are finished through a pipeline, also .gz and .zst; goes on where it was left",
    "dingle import old/gate.log.*.gz --pipeline gate", true,
    [](const Arguments& app) -> std::function<int(Client&)> {
      auto o = std::make_shared<ImportOptions>();
      app.option("FILE", o->files, "The files");
      app.option("--pipeline", o->pipeline, "Where their lines enter");
      app.option("--source", o->source,
                 "Read them as lines of this source: joined, with its zone and fixed fields");
      app.flag("--again", o->again,
               "Though the same contents were imported before; then they are there twice");
      app.flag("--list", o->list, "What was imported, or is being");
      return [=](Client& client) {
        if (o->list) return list(client);
        if (o->files.empty() || o->pipeline.empty()) {
          std::cerr << "dingle: " << (o->files.empty() ? "which files?" : "through which pipeline?")
                    << "\n  = dingle import old/gate.log.1.gz --pipeline gate\n";
          return kUsage;
        }
        return import_all(client, *o);
      };
    });

}  // namespace
}  // namespace dingle
