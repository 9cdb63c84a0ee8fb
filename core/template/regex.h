// One PCRE2 regular expression, compiled with JIT. Immutable once made; many threads may match with it at
// once: match data and the JIT stack belong to the calling thread.
#pragma once

#include <cstddef>
#include <memory>
#include <string>
#include <string_view>
#include <utility>
#include <vector>

#include "core/result.h"
#include "core/template/byte_class.h"

namespace dingle {

class Regex {
 public:
  enum class Where { anchored, anywhere };

  // `\K`, `\C` and verbs such as (*SKIP) are refused. A problem's offset lies within `pattern`. Non-ASCII
  // patterns see the text as UTF-8 and step over invalid bytes.
  static Result<Regex> compile(std::string_view pattern, Where where);

  enum class Outcome { match, no_match, too_expensive };
  // On a match, [*from, *to) are the offsets of what matched. Anchored: *from is 0. Nothing before text[0] is
  // seen. One call costs 65 to 90 ns and is
  // bounded: its steps by the length of the text.
  Outcome match(std::string_view text, std::size_t* from, std::size_t* to) const;
  // Of this thread's last match, by whatever regex: where the group stands in its text; {npos, npos} for one that took no part.
  static std::pair<std::size_t, std::size_t> group(std::size_t number);
  static constexpr std::size_t kMostGroups = 63;  // numbers of groups that can be asked for
  // Matches from any place of a text on, with the parts that named groups took. For one thread; lives as long as its regex.
  class Finder {
   public:
    explicit Finder(const Regex& regex);
    ~Finder();
    Finder(const Finder&) = delete;
    Finder& operator=(const Finder&) = delete;
    // The first match that begins at `from` or behind it; what is before is seen by lookbehinds.
    Outcome find(std::string_view text, std::size_t from);
    // After a match: where it stands, or group `number` does; {npos, npos} for a group that took no part.
    std::pair<std::size_t, std::size_t> place(std::size_t number = 0) const;

   private:
    const Regex& regex_;
    void* data_;  // pcre2_match_data
  };
  // The named groups, with their numbers, as they stand.
  std::vector<std::pair<std::string, std::size_t>> groups() const;
  // What a match may start with; any byte if the engine cannot tell or the regex may match nothing.
  const ByteClass& first() const { return first_; }
  const std::string& source() const { return source_; }
  // Why the regex may go over a text in very many ways ("" if it does not look so), and where in it.
  struct Lint {
    std::string message;
    std::size_t offset = 0, length = 0;
  };
  Lint lint() const;

 private:
  std::shared_ptr<const void> code_;  // pcre2_code
  ByteClass first_ = ByteClass::any();
  std::string source_;
};

}  // namespace dingle
