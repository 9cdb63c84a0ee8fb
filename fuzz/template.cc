// A template (up to the first newline) and lines to match with it. Explaining must agree with matching, and
// places lie within the line.
#include "core/template/template.h"

#include <cstdlib>

#include "core/json_text.h"

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
  using namespace dingle;
  static const PatternLibrary library = [] {
    PatternLibrary l;
    l.add({.name = "pair", .form = PatternForm::template_text, .source = "{a:word}={b}"});
    l.add({.name = "code", .form = PatternForm::regex, .kind = Kind::integer, .source = "\\d{3}"});
    return l;
  }();
  std::string_view input(reinterpret_cast<const char*>(data), size);
  const std::size_t end = std::min(input.find('\n'), input.size());
  std::vector<Problem> problems;
  auto t = Template::compile(input.substr(0, end), library, {}, problems);
  for (const Problem& p : problems)
    if (p.offset > end || p.message.empty()) std::abort();
  if ((t == nullptr) == problems.empty()) std::abort();
  if (!t) return 0;
  std::string line(input.substr(std::min(end + 1, size)));
  Arena arena;
  std::vector<Value> values(t->value_count());
  const MatchContext context{&arena, 1'795'428'000'000'000'000};
  const bool matched = t->match(line, context, values.data());
  if (matched) {
    std::string json;
    for (const Value& v : values) v.append_json(json);
    for (auto [from, length] : t->places(line, context))
      if (from + length > line.size()) std::abort();
  } else {
    const Mismatch m = t->explain(line, context);
    if (m.offset > line.size() || m.expected.empty()) std::abort();
    MatchFailure failure;
    t->locate(line, context, failure);
    if (failure.offset != m.offset || Template::reason(failure) != m.reason()) std::abort();
  }
  return 0;
}
