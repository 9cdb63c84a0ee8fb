#include "core/template/parameters.h"

#include <charconv>

#include "core/nearest.h"

namespace dingle {

const Parameter* ParameterReader::named(std::string_view name) {
  for (std::size_t i = 0; i < all_.size(); ++i)
    if (all_[i].name == name && !used_[i]) {
      used_[i] = true;
      return &all_[i];
    }
  return nullptr;
}

std::string ParameterReader::text(std::string_view name, std::string_view fallback) {
  const Parameter* p = named(name);
  return p ? p->value : std::string(fallback);
}

char ParameterReader::byte(std::string_view name, char fallback) {
  const Parameter* p = named(name);
  if (p == nullptr) return fallback;
  if (p->value == "\\t") return '\t';
  if (p->value.size() == 1) return p->value[0];
  bad(*p, "`" + std::string(name) + "` takes one byte, not \"" + p->value + "\"",
      "for instance " + std::string(name) + "=\";\"");
  return fallback;
}

const Parameter* ParameterReader::next_positional() {
  for (std::size_t i = 0; i < all_.size(); ++i)
    if (all_[i].name.empty() && !used_[i]) {
      used_[i] = true;
      return &all_[i];
    }
  return nullptr;
}

std::optional<ParameterReader::Range> ParameterReader::range() {
  const Parameter* p = next_positional();
  if (p == nullptr) return std::nullopt;
  Range range;
  const std::size_t dots = p->value.find("..");
  auto read = [&](std::string_view text, std::optional<double>& to) {
    if (text.empty()) return true;
    double v = 0;
    auto [end, error] = std::from_chars(text.data(), text.data() + text.size(), v);
    if (error != std::errc() || end != text.data() + text.size()) return false;
    to = v;
    return true;
  };
  const std::string_view value = p->value;
  if (dots == std::string::npos || !read(value.substr(0, dots), range.low) ||
      !read(value.substr(dots + 2), range.high) || (!range.low && !range.high)) {
    bad(*p, "`" + p->value + "` is no range", "write low..high, low.. or ..high, for instance 100..599");
    return std::nullopt;
  }
  if (range.low && range.high && *range.low > *range.high)
    bad(*p, "the range " + p->value + " is empty", "the lower number comes first");
  return range;
}

void ParameterReader::bad(const Parameter& at, std::string message, std::string hint) {
  problems_.push_back({std::move(message), std::move(hint), at.offset, at.length});
  sound_ = false;
}

void ParameterReader::finish(const std::vector<std::string>& known) {
  for (std::size_t i = 0; i < all_.size(); ++i) {
    if (used_[i]) continue;
    std::string names;
    for (const std::string& name : known) names += (names.empty() ? "`" : ", `") + name + "`";
    std::string hint = did_you_mean(all_[i].name, known);
    if (hint.empty() && !names.empty()) hint = "it takes " + names;
    if (all_[i].name.empty())
      bad(all_[i], "the pattern `" + pattern_ + "` does not take \"" + all_[i].value + "\"", hint);
    else
      bad(all_[i], "the pattern `" + pattern_ + "` has no parameter `" + all_[i].name + "`", hint);
  }
}

}  // namespace dingle
