// The texts of the configuration that ran, and those that were refused: data/versions.sqlite, mode 0600. At most 1000 that
// ran and 100 that were refused are kept; the oldest go, and how many went is known.
#pragma once

#include <cstdint>
#include <memory>
#include <mutex>
#include <optional>
#include <string>
#include <vector>

namespace dingle {

class Connection;

struct Version {
  std::int64_t number = 0;  // grows; never given twice
  std::int64_t parent = 0;  // what ran before; 0: nothing is known of that
  bool ran = true;          // false: it was refused
  std::string hash;         // of the text, as in `dingle.configuration`
  std::int64_t at = 0;      // ns since 1970 UTC: when it was given, the last time
  std::int64_t times = 1;   // that a text was refused, one after another
  std::string who, note, file;
  std::string why;            // it was refused
  std::string findings = {};  // a JSON array, as `dingle check --output json` tells them
  std::string text = {};
};

// Thread-safe. What the file cannot do is answered as a text; nothing else fails for that.
class Versions {
 public:
  static constexpr std::size_t kMostRan = 1000, kMostRefused = 100;
  explicit Versions(std::string path);
  ~Versions();

  // Keeps a version, and gives it its number and parent. A text that runs already keeps its number; one that is refused again
  // is counted. Answers why it could not be kept, or "".
  std::string keep(Version& version);
  // The newest first, without their texts.
  std::vector<Version> list(std::size_t most, std::string& problem);
  std::optional<Version> get(std::int64_t number, std::string& problem);
  std::optional<Version> current(std::string& problem);  // the newest that ran
  std::int64_t removed(std::string& problem);            // how many are not kept any more

 private:
  // Locks, and closes the file at its end: it is seldom needed, and an open one costs memory all the time.
  class Using {
   public:
    explicit Using(Versions& versions) : lock_(versions.mutex_), versions_(versions) {}
    ~Using();

   private:
    std::lock_guard<std::mutex> lock_;
    Versions& versions_;
  };
  Connection& connection();
  std::optional<Version> one(const std::string& where, std::int64_t number);
  std::string path_;
  std::mutex mutex_;
  std::unique_ptr<Connection> connection_;
};

}  // namespace dingle
