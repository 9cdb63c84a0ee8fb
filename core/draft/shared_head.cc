#include "core/draft/shared_head.h"

#include <algorithm>
#include <map>

#include "core/draft/compiled.h"
#include "core/template/set.h"
#include "core/template/syntax.h"

namespace dingle {
namespace {

constexpr std::size_t kLeastTemplates = 3, kLeastCaptures = 2, kMostHeads = 4;

// The places in a template behind literal text, outside of captures and optional parts, with how many captures stand
// before each.
std::map<std::size_t, std::size_t> ends_of_heads(const std::string& text) {
  std::map<std::size_t, std::size_t> ends;
  std::vector<Problem> problems;
  std::size_t captures = 0;
  for (const Part& part : parse_template(text, problems)) {
    if (part.form != Part::Form::literal) {
      captures += !part.branches.empty() || !part.field.empty() || part.form == Part::Form::capture;
      continue;
    }
    // Behind a sign or a blank, where no brace is doubled.
    for (std::size_t i = 0; i < part.length; ++i) {
      const char c = text[part.offset + i];
      if (std::string_view(" |:]>;,)").find(c) != std::string_view::npos)
        ends[part.offset + i + 1] = captures;
    }
  }
  ends.erase(text.size());
  return ends;
}

// The longest beginning that most of those that have none yet share; "" if fewer than three do.
std::string next_head(const std::vector<DraftTemplate>& templates) {
  std::map<std::string, std::size_t> counts, captures;
  for (const DraftTemplate& t : templates) {
    if (t.head != 0) continue;
    for (const auto& [end, before] : ends_of_heads(t.text)) {
      const std::string head = t.text.substr(0, end);
      ++counts[head];
      captures[head] = before;
    }
  }
  std::string best;
  std::size_t most = 0;
  for (const auto& [head, count] : counts) {
    if (count < kLeastTemplates || captures[head] < kLeastCaptures) continue;
    if (count > most || (count == most && head.size() > best.size())) best = head, most = count;
  }
  return best;
}

// Whether the two steps do with the lines what the templates do.
bool come_apart_alike(const std::vector<DraftTemplate>& templates, const std::vector<std::string>& heads,
                      const std::vector<std::string_view>& lines, std::int64_t now) {
  std::vector<std::shared_ptr<const Template>> all, wholes, rests;
  std::vector<int> places;  // of a template of `all` among the rests; -1: none
  for (const std::string& head : heads) wholes.push_back(compiled(head + "{message}"));
  for (const DraftTemplate& t : templates) {
    all.push_back(compiled(t.text));
    places.push_back(t.head == 0 ? -1 : static_cast<int>(rests.size()));
    if (t.head != 0) rests.push_back(compiled(t.text.substr(t.head)));
  }
  for (const auto& each : {wholes, rests})
    if (std::find(each.begin(), each.end(), nullptr) != each.end()) return false;
  const TemplateSet set(all), in_front(wholes), behind(rests);
  const std::size_t step = lines.size() / 4000 + 1;
  std::vector<Value> values;
  std::vector<Field> found;
  for (std::size_t i = 0; i < lines.size(); i += step) {
    Arena arena;
    const MatchContext context{&arena, now, &found};
    found.clear();
    const int which = set.match(lines[i], context, values);
    if (which < 0 || places[static_cast<std::size_t>(which)] < 0) continue;
    const int front = in_front.match(lines[i], context, values);
    if (front < 0) return false;
    const Value rest = values[in_front[static_cast<std::size_t>(front)].slots().size() - 1];
    if (behind.match(rest.as_text(), context, values) != places[static_cast<std::size_t>(which)])
      return false;
  }
  return true;
}

}  // namespace

std::vector<std::string> share_heads(std::vector<DraftTemplate>& templates,
                                     const std::vector<std::string_view>& lines, std::int64_t now) {
  std::vector<std::string> heads;
  while (heads.size() < kMostHeads) {
    const std::string head = next_head(templates);
    if (head.empty()) break;
    std::vector<DraftTemplate> marked = templates;
    for (DraftTemplate& t : marked)
      if (t.head == 0 && t.text.starts_with(head) && t.text.size() > head.size()) t.head = head.size();
    heads.push_back(head);
    if (!come_apart_alike(marked, heads, lines, now)) {
      heads.pop_back();
      break;
    }
    templates = std::move(marked);
  }
  return heads;
}

}  // namespace dingle
