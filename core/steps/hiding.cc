#include "core/steps/hiding.h"

#include <algorithm>
#include <charconv>
#include <cmath>
#include <functional>

#include "core/condition/words.h"
#include "core/draft/tokens.h"
#include "core/json_fields.h"
#include "core/nearest.h"
#include "core/steps/literal_search.h"
#include "core/template/lexemes.h"

namespace dingle {
namespace {

constexpr std::size_t kLeastByContent = 4;    // bytes of what is looked for elsewhere
constexpr std::size_t kMostEverywhere = 100;  // that are looked for in all texts of an event
constexpr std::size_t kMostHidden = 1000;     // of one finder in one text

bool is_decimal_digit(char c) { return c >= '0' && c <= '9'; }

struct Range {
  std::size_t from, to;
  const HiddenText* hidden;
};

bool whole_word(std::string_view text, std::size_t from, std::size_t to) {
  return (from == 0 || !is_word_byte(text[from - 1]) || !is_word_byte(text[from])) &&
         (to == text.size() || !is_word_byte(text[to]) || !is_word_byte(text[to - 1]));
}

void by_content(std::string_view text, std::string_view part, std::size_t rarest, const HiddenText& hidden,
                std::vector<Range>& ranges) {
  for (std::size_t at = find_literal(text, part, rarest); at != std::string_view::npos;
       at = find_literal(text, part, rarest, at + 1))
    if (whole_word(text, at, at + part.size())) ranges.push_back({at, at + part.size(), &hidden});
}

// Runs of digits that are the same number, however it is written: 007, 12.50.
void by_number(std::string_view text, const HiddenText& hidden, std::vector<Range>& ranges) {
  const char* const end = text.data() + text.size();
  for (std::size_t i = 0; i < text.size();) {
    if (!is_decimal_digit(text[i]) || (i != 0 && is_word_byte(text[i - 1]))) {
      ++i;
      continue;
    }
    double number = 0;
    const auto read = std::from_chars(text.data() + i, end, number);
    const auto to = static_cast<std::size_t>(read.ptr - text.data());
    if (read.ec == std::errc() && number == *hidden.number && (to == text.size() || !is_word_byte(text[to])))
      ranges.push_back({i, to, &hidden});
    i = std::max(to, i + 1);
  }
}

// JSON strings with escapes that say the same.
void by_json(std::string_view text, const HiddenText& hidden, std::vector<Range>& ranges) {
  for (std::size_t open = text.find('"'); open != std::string_view::npos;) {
    std::size_t close = open + 1;
    bool escaped = false;
    while (close < text.size() && text[close] != '"') {
      escaped = escaped || text[close] == '\\';
      close += text[close] == '\\' ? 2 : 1;
    }
    if (close >= text.size()) return;
    if (escaped) {
      Arena arena;
      const Value said = json_value(text.substr(open, close + 1 - open), arena);
      if (said.kind() == Kind::text && said.as_text() == hidden.text)
        ranges.push_back({open + 1, close, &hidden});
    }
    open = text.find('"', close + 1);
  }
}

std::string replaced(std::string_view text, char what, std::string_view with) {
  std::string out;
  for (const char c : text) c == what ? out += with : out += c;
  return out;
}

void find_ranges(std::string_view text, const HiddenText& hidden, std::vector<Range>& ranges) {
  if (hidden.text.empty() || text.empty()) return;
  const std::less<const char*> less;
  const char *from = text.data(), *to = from + text.size(), *first = hidden.text.data(),
             *last = first + hidden.text.size();
  if (less(first, to) && less(from, last))  // they overlap in memory
    ranges.push_back({static_cast<std::size_t>(std::max(first, from, less) - from),
                      static_cast<std::size_t>(std::min(last, to, less) - from), &hidden});
  if (!hidden.everywhere) return;
  if (hidden.number) by_number(text, hidden, ranges);
  if (text.size() < hidden.text.size()) return;  // however it is written
  if (hidden.text.size() >= kLeastByContent) by_content(text, hidden.text, hidden.rarest, hidden, ranges);
  if (text.find('\\') != std::string_view::npos) by_json(text, hidden, ranges);
  for (const std::string& written : hidden.written)
    by_content(text, written, rarest_byte(written), hidden, ranges);
}

bool luhn(std::string_view text) {
  int sum = 0, n = 0;
  for (auto c = text.rbegin(); c != text.rend(); ++c) {
    if (!is_decimal_digit(*c)) continue;
    int digit = *c - '0';
    if (n++ % 2 == 1 && (digit *= 2) > 9) digit -= 9;
    sum += digit;
  }
  return n >= 13 && n <= 19 && sum % 10 == 0;
}

bool is_address(std::string_view text) {
  unsigned char bytes[16];
  return parse_ip(text, bytes);
}

struct NamedFinder {
  const char *name, *regex;
  bool (*sound)(std::string_view);
};
constexpr NamedFinder kNamed[] = {
    {"card", R"((?<![0-9])[0-9](?:[ -]?[0-9]){12,18}(?![0-9]))", luhn},
    {"email", R"([A-Za-z0-9_%+-][A-Za-z0-9._%+-]*+@[A-Za-z0-9-]++(?:\.[A-Za-z0-9-]++)+)", nullptr},
    {"token",
     R"((?i:\bbearer\s++|\bbasic\s++|(?:token|api[_-]?key|secret|password|passwd|pwd)["']?\s*+[=:]\s*+["']?)(?<hide>[A-Za-z0-9._~+/=-]{4,})|(?<jwt>\beyJ[A-Za-z0-9_-]+\.[A-Za-z0-9_-]+\.[A-Za-z0-9_-]*+))",
     nullptr},
    {"address",
     R"((?<![\w.:])(?:[0-9]{1,3}(?:\.[0-9]{1,3}){3}|[0-9A-Fa-f]{0,4}(?::[0-9A-Fa-f]{0,4}){2,7}(?:\.[0-9]{1,3}){0,3})(?![\w.:]*[\w:]))",
     is_address}};

}  // namespace

HiddenText hidden_text(std::string_view text, std::string instead) {
  HiddenText hidden{text, std::move(instead)};
  hidden.rarest = rarest_byte(text);
  if (text.find('"') != std::string_view::npos) hidden.written.push_back(replaced(text, '"', "\"\""));
  if (text.find('&') != std::string_view::npos || text.find('<') != std::string_view::npos ||
      text.find('>') != std::string_view::npos)
    hidden.written.push_back(replaced(replaced(replaced(text, '&', "&amp;"), '<', "&lt;"), '>', "&gt;"));
  return hidden;
}

bool hide(std::string_view text, const std::vector<HiddenText>& hidden, std::string& made) {
  thread_local std::vector<Range> ranges;
  ranges.clear();
  for (const HiddenText& one : hidden) find_ranges(text, one, ranges);
  if (ranges.empty()) return false;
  std::sort(ranges.begin(), ranges.end(),
            [](const Range& a, const Range& b) { return a.from != b.from ? a.from < b.from : a.to > b.to; });
  made.clear();
  std::size_t done = 0;
  for (const Range& r : ranges) {
    if (r.from < done) {  // within the one before, or grown together with it
      done = std::max(done, r.to);
      continue;
    }
    made += text.substr(done, r.from - done);
    made += r.hidden->instead;
    done = r.to;
  }
  made += text.substr(done);
  return true;
}

void HidingStep::follow(StepFields& all) const {
  for (const FieldId field : fields) all.reads("fields", field_name(field));
  for (const FieldId field : within) all.reads("within", field_name(field));
}

void HidingStep::run(Batch& batch, StepTally& tally) const {
  std::vector<HiddenText> hidden;
  std::string made;
  for (Event& event : batch.events) {
    if (event.dropped_by != 0) continue;
    const bool failed = event.failed_step != 0 && event.failed_step < number && unparsed_ != Unparsed::pass &&
                        event.template_number == 0 &&  // else a field that it lacks is in no part of it
                        std::any_of(fields.begin(), fields.end(),
                                    [&](FieldId f) { return f != names::body && event.find(f) == nullptr; });
    if (!failed && !takes(batch, event)) continue;
    ++tally.in;
    ++tally.out;
    if (failed)
      conceal(batch, event);
    else
      hide_in(batch, event, hidden, made, tally);
  }
}

void HidingStep::hide_in(Batch& batch, Event& event, std::vector<HiddenText>& hidden, std::string& made,
                         StepTally& tally) const {
  hidden.clear();
  for (const FieldId field : fields) {
    const Field* f = event.find(field);
    const Value value = field == names::body ? Value::text(event.body) : f ? f->value : Value();
    if (value.absent()) {
      ++tally.missed;
      continue;
    }
    const std::string_view text = value.is_textual() ? value.as_text() : batch.arena.copy(value.to_string());
    if (text.empty()) continue;
    hidden.push_back(hidden_text(text, instead(text, nullptr)));
    if (value.is_number()) hidden.back().number = std::abs(value.as_number());
  }
  if (!finders.empty()) {
    if (within.empty()) find_in(event.body, hidden, tally);
    for (const Field& f : event.all())
      if (f.value.is_textual() &&
          (within.empty() || std::find(within.begin(), within.end(), f.name) != within.end()))
        find_in(f.value.as_text(), hidden, tally);
    if (std::find(within.begin(), within.end(), names::body) != within.end())
      find_in(event.body, hidden, tally);
  }
  if (hidden.empty()) return;
  // The old texts are still there until the last field was looked at: new ones lie elsewhere.
  const std::size_t count = event.field_count;
  for (std::size_t i = 0; i < count; ++i) {
    const Field f = event.fields[i];
    const bool chosen = std::find(fields.begin(), fields.end(), f.name) != fields.end();
    if (!f.value.is_textual()) {
      // Its text is made only where one could be equal to it.
      const bool any = std::any_of(hidden.begin(), hidden.end(), [](const HiddenText& one) {
        return is_decimal_digit(one.text.front()) || one.text.front() == '-' || one.text == "true" ||
               one.text == "false";
      });
      const std::string text = any ? f.value.to_string() : std::string();
      for (const HiddenText& one : hidden)
        if (any && one.text == text && (chosen || text.size() >= kLeastByContent)) {
          event.set(batch.arena, f.name, Value::text(batch.arena.copy(one.instead)));
          break;
        }
    } else if (chosen) {
      for (const HiddenText& one : hidden)
        if (one.text.data() == f.value.as_text().data() && one.text.size() == f.value.as_text().size()) {
          event.set(batch.arena, f.name, Value::text(batch.arena.copy(one.instead)));
          break;
        }
    } else if (f.name != names::unmatched && hide(f.value.as_text(), hidden, made)) {
      event.set(
          batch.arena, f.name,
          Value::from_text(f.value.kind() == Kind::ip ? Kind::text : f.value.kind(), batch.arena.copy(made)));
    }
  }
  if (hide(event.body, hidden, made)) event.body = batch.arena.copy(made);
}

void HidingStep::find_in(std::string_view text, std::vector<HiddenText>& hidden, StepTally& tally) const {
  for (const Finder& finder : finders) {
    Regex::Finder find(finder.regex);
    std::size_t at = 0;
    for (std::size_t n = 0; at <= text.size(); ++n) {
      const Regex::Outcome outcome = n == kMostHidden ? Regex::Outcome::too_expensive : find.find(text, at);
      if (outcome == Regex::Outcome::too_expensive) {
        // What was not looked at to the end may hold what is to be hidden.
        ++tally.gave_up;
        if (at < text.size()) hidden.push_back(hidden_text(text.substr(at), "***"));
      }
      if (outcome != Regex::Outcome::match) break;
      const auto [from, to] = find.place();
      at = to > from ? to : to + 1;
      std::size_t first = from, last = to;
      if (finder.group != 0)
        if (const auto [a, b] = find.place(finder.group); a < b && b <= text.size()) first = a, last = b;
      const std::string_view found = text.substr(first, last - first);
      if (found.empty() || (finder.sound != nullptr && !finder.sound(found))) continue;
      hidden.push_back(hidden_text(found, instead(found, &finder)));
      // Each is looked for in every text: of very many that would take too long.
      hidden.back().everywhere = hidden.size() <= kMostEverywhere;
      tally.gave_up += hidden.size() == kMostEverywhere + 1;
    }
  }
}

void HidingStep::conceal(Batch& batch, Event& event) const {
  const std::string shape = bare_shape_of(event.body, event.observed);
  if (unparsed_ == Unparsed::hold && holder_ != nullptr && event.dropped_by == 0)
    if (const std::string sealed = holder_->seal(event.body); !sealed.empty())
      event.set(batch.arena, names::held, Value::text(batch.arena.copy(sealed)));
  event.body = batch.arena.copy(shape);
  for (std::size_t i = 0; i < event.field_count;) {
    const Field f = event.fields[i];
    if (field_name(f.name).starts_with("dingle.") || !event.erase(batch.arena, f.name)) ++i;
  }
}

std::vector<OptionSpec> hiding_options(std::vector<OptionSpec> more) {
  std::vector<OptionSpec> all{
      {.name = "fields", .type = OptionType::fields, .text = "Fields that are hidden whole."},
      {.name = "find",
       .type = OptionType::texts,
       .text = "What is hidden wherever in a text it stands: `card` (13 to 19 digits with a right check "
               "digit), `email`, `token` "
               "(behind `Bearer`, `password=` and the like; three parts that begin with `eyJ`), `address`."},
      {.name = "regex",
       .type = OptionType::text,
       .text = "What is hidden wherever it matches; of a regex with a named group only what that takes."},
      {.name = "within",
       .type = OptionType::fields,
       .text = "Where `find` and `regex` look; in the body and all texts if it is not given."}};
  all.insert(all.end(), more.begin(), more.end());
  return all;
}

bool read_hiding(const StepMaking& m, HidingStep& step) {
  bool ok = true;
  for (const std::string& name : m.options.texts("fields")) step.fields.push_back(field_id(name));
  for (const std::string& name : m.options.texts("within")) step.within.push_back(field_id(name));
  std::vector<std::string> names;
  for (const NamedFinder& one : kNamed) names.emplace_back(one.name);
  for (const std::string& name : m.options.texts("find")) {
    const auto known = std::find(names.begin(), names.end(), name);
    if (known == names.end()) {
      const std::string near = did_you_mean(name, names);
      m.findings.error(m.options.where("find"), "`" + name + "` is nothing that can be found",
                       near.empty() ? one_of(names) : near);
      ok = false;
      continue;
    }
    const NamedFinder& one = kNamed[known - names.begin()];
    auto regex = Regex::compile(one.regex, Regex::Where::anywhere);
    if (!regex) {
      m.findings.error(m.options.where("find"), regex.problem().message, "");
      return false;
    }
    HidingStep::Finder finder{*regex, 0, one.sound, name == "address"};
    for (const auto& [group, number] : finder.regex.groups())
      if (group == "hide") finder.group = number;
    step.finders.push_back(std::move(finder));
  }
  if (m.options.given("regex")) {
    auto regex = Regex::compile(m.options.text("regex"), Regex::Where::anywhere);
    if (!regex) {
      m.findings.error_within(m.options.where("regex"), regex.problem());
      return false;
    }
    HidingStep::Finder finder{*regex, 0, nullptr, false};
    if (const auto groups = regex->groups(); !groups.empty()) finder.group = groups.front().second;
    step.finders.push_back(std::move(finder));
  }
  if (ok && step.fields.empty() && step.finders.empty()) {
    m.findings.error(m.options.place(), 1, "nothing says what is hidden",
                     "one of `fields`, `find` and `regex`");
    ok = false;
  }
  if (!step.within.empty() && step.finders.empty()) {
    m.findings.error(m.options.where("within"), "`within` is for `find` and `regex`", "");
    ok = false;
  }
  return ok;
}

}  // namespace dingle
