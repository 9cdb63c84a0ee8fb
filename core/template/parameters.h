// What stands between the parentheses of a pattern: {status:int(100..599)}, {at:time("%d.%m.%y", zone=UTC)}.
#pragma once

#include <optional>
#include <string>
#include <string_view>
#include <vector>

#include "core/result.h"

namespace dingle {

struct Parameter {
  std::string name;   // "" for one that is told by its position
  std::string value;  // without its quotes
  bool quoted = false;
  std::size_t offset = 0, length = 0;  // of it in the template's text
};

// Reads the parameters of one use of a pattern; whatever nobody asked for is a problem.
class ParameterReader {
 public:
  ParameterReader(const std::vector<Parameter>& all, std::string pattern, std::vector<Problem>& problems)
      : all_(all), used_(all.size(), false), pattern_(std::move(pattern)), problems_(problems) {}

  const Parameter* named(std::string_view name);  // nullptr if not given
  std::string text(std::string_view name, std::string_view fallback);
  // A single byte; a problem if it is given and is none.
  char byte(std::string_view name, char fallback);
  const Parameter* next_positional();  // in order; nullptr behind the last
  template <class Use>
  void each_named(Use use) {
    for (std::size_t i = 0; i < all_.size(); ++i)
      if (!all_[i].name.empty() && !used_[i]) used_[i] = true, use(all_[i]);
  }
  // A range `low..high` with either side missing, if a positional one is there.
  struct Range {
    std::optional<double> low, high;
  };
  std::optional<Range> range();

  void bad(const Parameter& at, std::string message, std::string hint = "");
  // Complains of parameters that were not read.
  void finish(const std::vector<std::string>& known);
  bool sound() const { return sound_; }
  const std::string& pattern() const { return pattern_; }

 private:
  const std::vector<Parameter>& all_;
  std::vector<bool> used_;
  std::string pattern_;
  std::vector<Problem>& problems_;
  bool sound_ = true;
};

}  // namespace dingle
