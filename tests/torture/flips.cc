#include "tests/torture/flips.h"

#include <fmt/format.h>
#include <gtest/gtest.h>

#include <filesystem>
#include <fstream>
#include <iostream>
#include <map>
#include <random>
#include <set>
#include <sstream>

#include "tests/end_to_end/daemon.h"
#include "tests/torture/troubled_service.h"

namespace dingle {
namespace {

namespace fs = std::filesystem;

constexpr long kPoison = 50;  // one event in so many is refused by the service: a dead letter

class Flips {
 public:
  explicit Flips(unsigned seed)
      : random_(seed),
        daemon_(fmt::format(R"(
sources: {{ numbered: {{ files: {{ paths: ['{{dir}}/logs/*.log'] }} }} }}
pipelines:
  all: {{ from: [numbered], steps: [ parse: {{ templates: ['{{file:word}} {{n:int}} {{:rest}}'] }} ], to: [store, service] }}
destinations:
  store: {{ index: {{ name: numbered }}, retry: {{ first: 10ms, longest: 200ms }} }}
  service: {{ http: {{ url: 'http://127.0.0.1:{}/' }}, retry: {{ first: 10ms, longest: 200ms }} }}
)",
                            service_.port())) {
    service_.poison = kPoison;
  }

  bool run(int rounds) {
    daemon_.start();
    for (round_ = 0; round_ < rounds && good_; ++round_) one();
    for (const auto& [kind, n] : tried_)
      std::cout << fmt::format("{:4} x {:<14}{:4} times told, {} events lost by it\n", n, kind, told_[kind],
                               lost_by_[kind]);
    std::cout << fmt::format(
        "{} lines; service: {} lost, {} counted as damaged; index: {} lost, told; letters: {} lost, told; {} "
        "came again, told\n",
        written_, lost_service_, damaged_, lost_index_, lost_letters_, again_);
    if (late_ != 0) std::cout << late_ << " x an index that was found to be damaged only by the next write\n";
    if (!good_) std::cout << "kept: " << daemon_.dir << "\n";
    return good_;
  }

 private:
  void wrong(const std::string& what) {
    good_ = false;
    std::cout << "round " << round_ << ", " << last_ << ": " << what << "\n" << daemon_.log();
    ADD_FAILURE() << what;
  }
  Json destination(const char* name) { return find(daemon_.status()["destinations"], name); }
  bool wait(const char* name, const char* what, long value) {
    return eventually([&] { return destination(name)[what] == value; });
  }
  std::string problems() {
    std::string all;
    const Json status = daemon_.status();
    for (const Json& p : status["problems"])
      all += p["about"].get<std::string>() + ": " + p["text"].get<std::string>() + "\n";
    return all;
  }

  void one() {
    service_.answering = 503;
    const long from = written_, to = from + 20 + static_cast<long>(random_() % 400);
    for (long n = from; n < to;) {
      std::string text;
      for (long end = std::min(to, n + 1 + static_cast<long>(random_() % 100)); n < end; ++n)
        text += fmt::format("gamma {} {}\n", n, std::string(random_() % 300, 'x'));
      daemon_.write("gamma.log", text);
      if (random_() % 2) std::this_thread::sleep_for(std::chrono::milliseconds(50));
    }
    written_ = to;
    if (!stored() || !eventually([&] { return destination("service")["waiting"] >= to - from; }))
      return wrong("the lines are not read");
    if (random_() % 2)
      daemon_.kill();
    else
      daemon_.terminate();
    const auto [kind, path] = choose();
    damage(path);
    ++tried_[kind];
    daemon_.start_whatever_comes();
    if (!daemon_.runs()) return wrong("it does not start");
    std::string told = problems();
    if (kind == "letters" && told.find("move it away") != std::string::npos) {
      daemon_.terminate();
      for (const char* file : {"letters.sqlite", "letters.sqlite-wal", "letters.sqlite-shm"})
        fs::remove(daemon_.dir + "/data/" + file);
      daemon_.start();
    }
    service_.answering = 200;
    if (!wait("service", "waiting", 0)) return wrong("it does not go on\n" + problems());
    const Json service = destination("service");
    long missing = 0, again = 0;
    {
      std::lock_guard lock(service_.mutex);
      for (long n = from; n < to; ++n) {
        const auto& ids = service_.ids["gamma"][n];
        missing += ids.empty() && n % kPoison != kPoison - 1;
        again += ids.size() > 1;
      }
    }
    told += problems();
    const long damaged = service["damaged"], letters = service["letters"],
               lost_letters = service["letters_lost"];
    // Of those that were refused now, some may have stood in damaged records.
    const long gone = letters_ + lost_letters_ + to / kPoison - from / kPoison - letters - lost_letters;
    // A spool that lost its counters does not know how many letters there were; that loss was told then.
    const long unknown = kind == "letters" ? std::max(0L, letters_ + lost_letters_ - set_aside_) : 0;
    lost_service_ += missing;
    lost_by_[kind] += kind == "letters" ? lost_letters - lost_letters_ : missing + gone;
    if (!told.empty()) ++told_[kind];
    // A damaged record behind the newest snapshot was never counted as waiting.
    if (missing + gone > damaged - damaged_ + unknown &&
        told.find("records of the spool that were damaged") == std::string::npos)
      wrong(fmt::format("{} lost, {} dead letters gone, {} counted as damaged", missing, gone,
                        damaged - damaged_));
    if (kind != "spool" && missing + gone > unknown) wrong("lost by what holds no events");
    if (lost_letters != lost_letters_ && (kind != "letters" || told.find("letters") == std::string::npos))
      wrong("dead letters are gone, unsaid");
    if ((missing != 0 || damaged != damaged_) && told.find("damage") == std::string::npos)
      wrong("lost, unsaid");
    damaged_ = damaged;
    set_aside_ = service["set_aside"];
    letters_ = letters;
    lost_letters_ = lost_letters;
    // What the spool's end held is read again: that is told, and elsewhere nothing comes twice.
    again += look_into_index(kind);
    if (kind == "spool" &&
        (told.find("missing at its end") != std::string::npos || told.find("again") != std::string::npos))
      again_ += again;
    else if (again != 0)
      wrong(fmt::format("{} came twice", again));
  }

  // One of its files, chosen evenly among the kinds.
  std::pair<std::string, std::string> choose() {
    std::map<std::string, std::vector<std::string>> kinds;
    for (const auto& entry : fs::recursive_directory_iterator(daemon_.dir + "/data")) {
      const std::string path = entry.path(), name = entry.path().filename();
      if (!entry.is_regular_file() || entry.file_size() == 0 || name == "address" || name == "token")
        continue;
      const bool segment = name.starts_with("segment-");
      kinds[path.find("/indexes/") != std::string::npos ? "index"
            : path.find("letters") != std::string::npos ? "letters"
            : segment                                   ? "spool"
                                                        : "spool: " + name]
          .push_back(path);
    }
    auto it = kinds.begin();
    std::advance(it, static_cast<long>(random_() % kinds.size()));
    std::sort(it->second.begin(), it->second.end());
    return {it->first, it->second[random_() % it->second.size()]};
  }
  void damage(const std::string& path) {
    std::string bytes = read_file(path);
    const std::size_t at = random_() % bytes.size();
    switch (random_() % 6) {
      case 0:
        bytes.replace(at, std::min<std::size_t>(512, bytes.size() - at),
                      std::min<std::size_t>(512, bytes.size() - at), '\0');
        last_ = fmt::format("zeros from {} of {}", at, path);
        break;
      case 1:
        bytes.resize(at);
        last_ = fmt::format("cut at {}: {}", at, path);
        break;
      default:
        for (unsigned n = 1 + random_() % 3; n--;) {
          const std::size_t here =
              random_() % 4 ? random_() % bytes.size() : random_() % std::min<std::size_t>(bytes.size(), 200);
          bytes[here] = static_cast<char>(bytes[here] ^ (1 << random_() % 8));
          last_ = fmt::format("a bit at {} of {}: {}", here, bytes.size(), path);
        }
    }
    std::ofstream(path, std::ios::trunc) << bytes;
  }

  // All that the index got is found, or it is said that something is damaged; then the advice is followed.
  // How many stand in it twice.
  long look_into_index(const std::string& kind) {
    long twice = 0;
    const Ran ran =
        daemon_.dingle({"search", "n >= " + std::to_string(index_from_), "-o", "ndjson", "--limit", "10000"});
    std::set<long> found;
    std::istringstream in(ran.out);
    for (std::string line; std::getline(in, line);) {
      const Json event = Json::parse(line, nullptr, false);
      if (event.is_object() && event.contains("n")) twice += !found.insert(event["n"].get<long>()).second;
    }
    const long expected = std::min(10'000L, written_ - index_from_);
    const long missing = expected - static_cast<long>(found.size());
    const std::string said = ran.err + problems();
    const bool told = said.find("index numbered: ") != std::string::npos ||
                      said.find("destination store: restored") != std::string::npos;
    if (missing != 0 && !told)
      wrong(fmt::format("{} of {} are not found in the index, unsaid\n{}", missing, expected, said));
    if (kind != "index") {
      if (missing != 0) wrong("the index lacks what it had");
      if (index_from_ + 6000 < written_ || twice != 0) index_from_ = written_;
      return twice;
    }
    lost_index_ += missing;
    if (told) {
      ++told_[kind];
      begin_index_anew();
    }
    return twice;
  }
  void begin_index_anew() {
    daemon_.terminate();
    fs::remove_all(daemon_.dir + "/data/indexes");
    daemon_.start();
    index_from_ = written_;
  }
  // Waits until the index has all. Damage may be found only when something is written there: then the advice is followed.
  bool stored() {
    bool told = false;
    if (!eventually([&] {
          told = problems().find("index numbered: ") != std::string::npos;
          return told || destination("store")["waiting"] == 0;
        }))
      return false;
    if (!told) return true;
    ++late_;
    begin_index_anew();
    return wait("store", "waiting", 0);
  }

  std::mt19937 random_;
  TroubledService service_;
  Daemon daemon_;
  int round_ = 0, late_ = 0;
  bool good_ = true;
  std::string last_;
  long written_ = 0, index_from_ = 0, letters_ = 0, damaged_ = 0, set_aside_ = 0;
  long lost_service_ = 0, again_ = 0, lost_index_ = 0, lost_letters_ = 0;
  std::map<std::string, int> tried_, told_;
  std::map<std::string, long> lost_by_;
};

}  // namespace

bool flip_bits(int rounds, unsigned seed) { return Flips(seed).run(rounds); }

}  // namespace dingle
