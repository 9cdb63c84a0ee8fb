// Writes numbered lines to four files, one of them hostile, and rotates them in every way that rotating tools know.
#pragma once

#include <fcntl.h>
#include <fmt/format.h>
#include <unistd.h>

#include <atomic>
#include <filesystem>
#include <map>
#include <mutex>
#include <random>
#include <string>
#include <thread>
#include <vector>

#include "core/time/instant.h"
#include "tests/end_to_end/daemon.h"
#include "tests/torture/story.h"

namespace dingle {

// What stands behind the number in a hostile line: nested, long, binary, forged, odd numbers, names that do not stop. The
// longest are longer than `longest_line`.
inline std::string hostile(long n) {
  std::string text;
  switch (n % 100) {
    case 3: return "{\"v\":" + std::string(n % 500 == 3 ? 60'000 : 500, '[');
    case 7: return n % 1000 == 7 ? std::string(300'000, 'x') : "";
    case 11: return n % 2000 == 11 ? std::string(1'200'000, 'y') : "";
    case 13:
      for (int c = 0; c < 256; ++c)
        if (c != '\n') text += static_cast<char>(c);
      return text;
    case 17:
      return R"({"a":1e400,"b":-0,"c":123456789012345678901234567890,"d":1e-400,"e":1E+2,"f":0.1,"g":-9223372036854775808})";
    case 19:
      return R"({"dingle.id":"x","dingle.pipeline":"y","dingle":{"stream":7},"file":"alpha","n":7,"body":"b","timestamp":1})";
    case 23: return R"({"a":1,"a":2,"":3,"\u0000":4,"s":"\ud800 and \u0000","t":"\udc00"})";
    case 29: return "{\"" + std::string(5000, 'k') + "\":1}";
    case 31: return "\x1b]0;title\x07\x1b[2J\x1b[31mred \r\b\b";
    case 37: return std::string(300, '\0');
    case 41: return "{\"a\":{\"b\":{\"c\":[1,{\"d\":[[[[]]]]}]}}} trailing";
    case 43: return "{\"t\":\"" + std::string(n % 1000 == 43 ? 70'000 : 700, 'q') + "\"}";
    default:
      text = "{";
      for (int i = 0; i < 5; ++i) text += fmt::format("{}\"k{}\":{}", i ? "," : "", n * 5 + i, i);
      return text + "}";
  }
}

class Writer {
 public:
  Writer(Daemon& daemon, Story& story) : story_(story), begin_(system_now()) {
    for (const char* name : {"alpha", "beta", "gamma", "delta"})
      threads_.emplace_back([this, &daemon, name = std::string(name)] { write(daemon, name); });
  }
  void stop() {
    stopping_ = true;
    for (auto& t : threads_) t.join();
    threads_.clear();
  }
  std::atomic<int> rotate{0};  // so many of the files are to be rotated soon
  // A file that is cut begins a new stream, with a name that nobody else can know: two copies of a spool that read on from there
  // give its events ids of their own.
  std::atomic<bool> may_truncate{true};
  std::map<std::string, long> written;

 private:
  void write(Daemon& daemon, const std::string& name) {
    const bool is_hostile = name == "gamma";
    std::mt19937 random(static_cast<unsigned>(name[0]));
    const std::string path = daemon.path(name + ".log");
    const auto begin = [&] { return ::open(path.c_str(), O_WRONLY | O_CREAT | O_APPEND | O_CLOEXEC, 0644); };
    int fd = begin();
    long n = 0, in_file = 0, rotated = 0;
    // An hour takes ten seconds, and delta is an hour behind alpha.
    const auto time = [&] {
      const std::int64_t now = system_now();
      return format_rfc3339(begin_ - 30 * kDay + 360 * (now - begin_) - (name == "delta" ? kDay / 24 : 0));
    };
    const bool timed = name == "alpha" || name == "delta";
    const auto lines = [&](int count) {
      std::string text;
      for (; count--; ++in_file, ++n)
        text += fmt::format("{} {} {}\n", name, n,
                            is_hostile ? hostile(n)
                            : timed    ? "at " + time() + " and some more text"
                                       : "and some more text to make it longer");
      // A long one comes in pieces.
      const std::size_t half = text.size() > 100'000 ? text.size() / 2 : text.size();
      put(fd, std::string_view(text).substr(0, half));
      if (half != text.size()) std::this_thread::sleep_for(std::chrono::milliseconds(30));
      put(fd, std::string_view(text).substr(half));
    };
    while (!stopping_) {
      lines(is_hostile ? 2 : name == "delta" ? 6 : 20);
      if (int wanted = rotate; in_file > (is_hostile ? 1000 : 10'000) ||
                               (wanted > 0 && rotate.compare_exchange_strong(wanted, wanted - 1))) {
        const std::string away = path + "." + std::to_string(rotated++);
        const std::string told =
            fmt::format("{} with {} lines up to {}", away.substr(daemon.dir.size() + 1), in_file, n);
        if (random() % 3 == 0 && may_truncate) {
          std::filesystem::copy_file(path, away);
          story_.tell("copied " + told);
          if (random() % 2) std::this_thread::sleep_for(std::chrono::milliseconds(random() % 100));
          if (::ftruncate(fd, 0) != 0) std::abort();
          story_.tell("truncated");
        } else {
          std::filesystem::rename(path, away);
          story_.tell("renamed " + told);
          for (unsigned more = random() % 4; more--;) {  // it lingers
            lines(2);
            std::this_thread::sleep_for(std::chrono::milliseconds(random() % 30));
          }
          ::close(fd);
          fd = begin();
        }
        in_file = 0;
      }
      std::this_thread::sleep_for(std::chrono::milliseconds(10));
    }
    ::close(fd);
    std::lock_guard lock(mutex_);
    written[name] = n;
  }
  static void put(int fd, std::string_view text) {
    while (!text.empty()) {
      const ssize_t n = ::write(fd, text.data(), text.size());
      if (n < 0) std::abort();
      text.remove_prefix(static_cast<std::size_t>(n));
    }
  }

  Story& story_;
  const std::int64_t begin_;
  std::atomic<bool> stopping_{false};
  std::mutex mutex_;
  std::vector<std::thread> threads_;
};

}  // namespace dingle
