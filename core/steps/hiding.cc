#include "core/steps/hiding.h"

#include <algorithm>
#include <charconv>
#include <cmath>
#include <cstring>
#include <functional>

#include "core/condition/words.h"
#include "core/draft/tokens.h"
#include "core/json_fields.h"
#include "core/json_text.h"
#include "core/steps/literal_search.h"
#include "core/steps/readings.h"

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

// Signs and blanks outside of ASCII that stand between words: Latin-1's, general punctuation (dashes, quotes, ellipses, blanks of
// all widths), arrows to symbols, CJK's, full-width ones, the byte order mark.
bool parts_words(std::uint32_t c) {
  return (c >= 0x80 && c <= 0xBF && c != 0xAA && c != 0xB5 && c != 0xBA) || c == 0xD7 || c == 0xF7 ||
         (c >= 0x2000 && c <= 0x206F) || (c >= 0x2190 && c <= 0x2BFF) || (c >= 0x2E00 && c <= 0x2E7F) ||
         (c >= 0x3000 && c <= 0x3020) || (c >= 0xFE30 && c <= 0xFE6F) || (c >= 0xFF01 && c <= 0xFF0F) ||
         (c >= 0xFF1A && c <= 0xFF20) || c == 0xFEFF || c == 0xFFFD;
}

// The character that ends before, or begins at, a place within the text; a byte that is of none stands for itself.
std::uint32_t character_at(std::string_view text, std::size_t at) {
  const auto byte = [&](std::size_t i) { return i < text.size() ? static_cast<unsigned char>(text[i]) : 0u; };
  const std::uint32_t first = byte(at);
  const std::size_t tail = first >= 0xF0 ? 3 : first >= 0xE0 ? 2 : first >= 0xC0 ? 1 : 0;
  std::uint32_t c = tail == 0 ? first : first & (0x3Fu >> tail);
  for (std::size_t i = 1; i <= tail; ++i) c = c << 6 | (byte(at + i) & 0x3F);
  return c;
}
bool is_word_before(std::string_view text, std::size_t at) {
  if (static_cast<unsigned char>(text[at - 1]) < 0x80) return is_word_byte(text[at - 1]);
  std::size_t from = at - 1;
  while (from > 0 && at - from < 4 && (static_cast<unsigned char>(text[from]) & 0xC0) == 0x80) --from;
  return !parts_words(character_at(text, from));
}
bool is_word_at(std::string_view text, std::size_t at) {
  if (static_cast<unsigned char>(text[at]) < 0x80) return is_word_byte(text[at]);
  return !parts_words(character_at(text, at));
}

bool whole_word(std::string_view text, std::size_t from, std::size_t to) {
  return (from == 0 || !is_word_before(text, from) || !is_word_at(text, from)) &&
         (to == text.size() || !is_word_at(text, to) || !is_word_before(text, to));
}

// Those of one reading, as they stand in the text.
struct Looking {
  const Readings& readings;
  std::size_t reading;
  std::vector<Range>& ranges;
  std::string_view text() const { return readings.text(reading); }
  void found(std::size_t from, std::size_t to, const HiddenText& hidden) const {
    const auto [first, last] = readings.place(reading, from, to);
    ranges.push_back({first, last, &hidden});
  }
};

void by_content(const Looking& l, const HiddenText& hidden) {
  const std::string_view text = l.text(), part = hidden.text;
  for (std::size_t at = find_literal(text, part, hidden.rarest); at != std::string_view::npos;
       at = find_literal(text, part, hidden.rarest, at + 1))
    if (whole_word(text, at, at + part.size())) l.found(at, at + part.size(), hidden);
}

// Runs of digits that are the same number, however it is written: 007, 12.50.
void by_number(const Looking& l, const HiddenText& hidden) {
  const std::string_view text = l.text();
  const char* const end = text.data() + text.size();
  for (std::size_t i = 0; i < text.size();) {
    if (!is_decimal_digit(text[i]) || (i != 0 && is_word_before(text, i))) {
      ++i;
      continue;
    }
    double number = 0;
    const auto read = std::from_chars(text.data() + i, end, number);
    const auto to = static_cast<std::size_t>(read.ptr - text.data());
    if (read.ec == std::errc() && number == *hidden.number && (to == text.size() || !is_word_at(text, to)))
      l.found(i, to, hidden);
    i = std::max(to, i + 1);
  }
}

void find_ranges(const Readings& readings, const HiddenText& hidden, std::vector<Range>& ranges) {
  const std::string_view text = readings.text(0);
  if (hidden.text.empty() || text.empty()) return;
  const std::less<const char*> less;
  const char *from = text.data(), *to = from + text.size(), *first = hidden.text.data(),
             *last = first + hidden.text.size();
  if (less(first, to) && less(from, last))  // they overlap in memory
    ranges.push_back({static_cast<std::size_t>(std::max(first, from, less) - from),
                      static_cast<std::size_t>(std::min(last, to, less) - from), &hidden});
  if (!hidden.everywhere) return;
  for (std::size_t reading = 0; reading < readings.size(); ++reading) {
    const Looking l{readings, reading, ranges};
    if (hidden.number) by_number(l, hidden);
    if (hidden.text.size() >= kLeastByContent) by_content(l, hidden);
  }
}

// What stands in a text's place where it was found by another reading of it must be no part of any format.
void append_instead(std::string_view instead, bool as_written, std::string& made) {
  for (const char c : instead)
    made += as_written || (static_cast<unsigned char>(c) >= ' ' && c != '"' && c != '\\' && c != '&' &&
                           c != '<' && c != '>')
                ? c
                : '*';
}

}  // namespace

HiddenText hidden_text(std::string_view text, std::string instead) {
  HiddenText hidden{text, std::move(instead)};
  hidden.rarest = rarest_byte(text);
  return hidden;
}

Hide hide(std::string_view text, const std::vector<HiddenText>& hidden, std::string& made) {
  thread_local std::vector<Range> ranges;
  thread_local Readings readings;
  ranges.clear();
  readings.read(text);
  for (const HiddenText& one : hidden) find_ranges(readings, one, ranges);
  const bool complete = readings.complete();
  if (ranges.empty()) return complete ? Hide::nothing : Hide::incomplete;
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
    append_instead(r.hidden->instead, readings.size() == 1, made);
    done = r.to;
  }
  made += text.substr(done);
  return complete ? Hide::done : Hide::incomplete;
}

Hide hide_json(std::string_view json, const std::vector<HiddenText>& hidden, std::string& made) {
  std::string out, piece;
  Hide all = Hide::nothing;
  const auto look = [&](std::string_view text) {
    const Hide one = hide(text, hidden, piece);
    if (one == Hide::done && all == Hide::nothing) all = Hide::done;
    if (one == Hide::incomplete) all = Hide::incomplete;
    return one;
  };
  Arena arena;
  for (std::size_t at = 0; at < json.size();) {
    const std::size_t from = at;
    if (json[at] == '"') {
      for (++at; at < json.size() && json[at] != '"'; ++at) at += json[at] == '\\';
      at = std::min(at + 1, json.size());
      const std::string_view token = json.substr(from, at - from);
      // As it is written, so that what lies in the same memory is found; else by what it says.
      std::string_view said = token.substr(1, token.size() < 2 ? 0 : token.size() - 2);
      if (said.find('\\') != std::string_view::npos) said = json_value(token, arena).as_text();
      if (look(said) == Hide::nothing)
        out += token;
      else
        append_json_string(out, piece);
    } else if (is_word_byte(json[at]) || json[at] == '-') {
      while (at < json.size() && (is_word_byte(json[at]) || std::strchr("+-.", json[at]) != nullptr)) ++at;
      const std::string_view token = json.substr(from, at - from);
      if (look(token) == Hide::nothing)
        out += token;
      else
        append_json_string(out, piece);
    } else {
      out += json[at++];
    }
  }
  if (all != Hide::nothing) made = std::move(out);
  return all;
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
                        std::any_of(fields.begin(), fields.end(),
                                    [&](FieldId f) { return f != names::body && event.find(f) == nullptr; });
    if (failed && event.concealed) continue;  // by a step before
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
    if (value.kind() == Kind::list || value.kind() == Kind::map) add_items(batch, text, hidden, tally);
    if (field != names::body) add_members(batch, event.body, field, hidden, tally);
  }
  if (!finders.empty()) {
    const auto is_looked_through = [&](FieldId field) {
      return within.empty() || std::find(within.begin(), within.end(), field) != within.end();
    };
    bool complete = !is_looked_through(names::body) || find_in(batch, event.body, hidden, tally);
    for (const Field& f : event.all())
      if (f.value.is_textual() && is_looked_through(f.name))
        complete = find_in(batch, f.value.as_text(), hidden, tally) && complete;
    if (!complete) return give_up(batch, event, tally);
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
    } else if (f.name != names::unmatched) {
      const Kind kind = f.value.kind();
      const bool nested = kind == Kind::list || kind == Kind::map;
      const std::string_view text = f.value.as_text();
      const Hide found = nested ? hide_json(text, hidden, made) : hide(text, hidden, made);
      if (found == Hide::done)
        event.set(batch.arena, f.name, Value::from_text(nested ? kind : Kind::text, batch.arena.copy(made)));
      if (found == Hide::incomplete) return give_up(batch, event, tally);
    }
  }
  const Hide found = hide(event.body, hidden, made);
  if (found == Hide::done) event.body = batch.arena.copy(made);
  if (found == Hide::incomplete) give_up(batch, event, tally);
}

// What could not be looked at to its end may hold what is to be hidden.
void HidingStep::give_up(Batch& batch, Event& event, StepTally& tally) const {
  ++tally.gave_up;
  conceal(batch, event);
}

// The values of a list or map, each by itself: the line has them one by one.
void HidingStep::add_items(Batch& batch, std::string_view json, std::vector<HiddenText>& hidden,
                           StepTally& tally) const {
  std::size_t items = 0;
  for (std::size_t at = 0; at < json.size();) {
    const std::size_t from = at;
    if (json[at] == '"') {
      for (++at; at < json.size() && json[at] != '"'; ++at) at += json[at] == '\\';
      at = std::min(at + 1, json.size());
      std::size_t behind = at;
      while (behind < json.size() && json[behind] == ' ') ++behind;
      if (behind < json.size() && json[behind] == ':') continue;  // a name
    } else if (is_decimal_digit(json[at]) || json[at] == '-') {
      while (at < json.size() && (is_word_byte(json[at]) || std::strchr("+-.", json[at]) != nullptr)) ++at;
    } else {
      ++at;
      continue;
    }
    const Value item = json_value(json.substr(from, at - from), batch.arena);
    const std::string_view text = item.is_textual() ? item.as_text() : batch.arena.copy(item.to_string());
    if (text.empty()) continue;
    if (++items > kMostHidden) {
      tally.gave_up += items == kMostHidden + 1;
      return;
    }
    hidden.push_back(hidden_text(text, instead(text, nullptr)));
    if (item.is_number()) hidden.back().number = std::abs(item.as_number());
    hidden.back().everywhere = hidden.size() <= kMostEverywhere;
  }
}

// A JSON object may have a member of one name several times, of which the field has the last.
void HidingStep::add_members(Batch& batch, std::string_view body, FieldId field,
                             std::vector<HiddenText>& hidden, StepTally& tally) const {
  const std::string_view name = field_name(field), last = name.substr(name.rfind('.') + 1);
  const std::size_t open = body.find('{');
  if (open == std::string_view::npos) return;
  if (body.find("\\u", open) == std::string_view::npos) {  // else names may be written otherwise, too
    const std::size_t once = body.find(last, open);
    if (once == std::string_view::npos || body.find(last, once + 1) == std::string_view::npos) return;
  }
  const char* const end = body.data() + body.size();
  const char* const close = json_end(body.data() + open, end);
  if (close == nullptr) return;
  std::size_t found = 0;
  const auto look = [&](const auto& again, std::string_view object, const std::string& before,
                        int depth) -> void {
    json_each(object, batch.arena, [&](std::string_view key, std::string_view value) {
      const std::string path = before + std::string(key);
      const bool is_it = name == path || name.ends_with("." + path);
      if (value.starts_with('{') && depth < 8) again(again, value, path + ".", depth + 1);
      if (!is_it || value.empty()) return true;
      if (value.front() == '{' || value.front() == '[') {
        add_items(batch, value, hidden, tally);
      } else {
        const Value said = json_value(value, batch.arena);
        const std::string_view text = said.is_textual() ? said.as_text() : batch.arena.copy(said.to_string());
        if (text.empty()) return true;
        hidden.push_back(hidden_text(text, instead(text, nullptr)));
        if (said.is_number()) hidden.back().number = std::abs(said.as_number());
        // Where it stands: it may be too short to be looked for.
        if (value.front() == '"') value = value.substr(1, value.size() - 2);
        hidden.push_back(hidden_text(value, hidden.back().instead));
      }
      return ++found < kMostHidden;
    });
  };
  look(look, {body.data() + open, static_cast<std::size_t>(close - body.data() - open)}, "", 1);
}

// False: the text has more readings than were looked through.
bool HidingStep::find_in(Batch& batch, std::string_view text, std::vector<HiddenText>& hidden,
                         StepTally& tally) const {
  thread_local Readings readings;
  readings.read(text);
  for (std::size_t reading = 0; reading < readings.size(); ++reading)
    for (const Finder& finder : finders) {
      const std::string_view in = readings.text(reading);
      Regex::Finder find(finder.regex);
      std::size_t at = 0;
      for (std::size_t n = 0; at <= in.size(); ++n) {
        const Regex::Outcome outcome = n == kMostHidden ? Regex::Outcome::too_expensive : find.find(in, at);
        if (outcome == Regex::Outcome::too_expensive) {
          // What was not looked at to the end may hold what is to be hidden.
          ++tally.gave_up;
          if (at < in.size()) {
            const auto [from, to] = readings.place(reading, at, in.size());
            hidden.push_back(hidden_text(text.substr(from, to - from), "***"));
          }
        }
        if (outcome != Regex::Outcome::match) break;
        const auto [from, to] = find.place();
        at = to > from ? to : to + 1;
        std::size_t first = from, last = to;
        if (finder.group != 0)
          if (const auto [a, b] = find.place(finder.group); a < b && b <= in.size()) first = a, last = b;
        const std::string_view found = in.substr(first, last - first);
        if (found.empty() || (finder.sound != nullptr && !finder.sound(found))) continue;
        // Where it stands; and what it says, wherever else that is.
        const auto [begin, end] = readings.place(reading, first, last);
        const std::string_view written = text.substr(begin, end - begin);
        hidden.push_back(hidden_text(written, instead(found, &finder)));
        // Each is looked for in every text: of very many that would take too long.
        hidden.back().everywhere = hidden.size() <= kMostEverywhere;
        tally.gave_up += hidden.size() == kMostEverywhere + 1;
        if (reading != 0 && written != found && hidden.size() < kMostEverywhere)
          hidden.push_back(hidden_text(batch.arena.copy(found), hidden.back().instead));
      }
    }
  return readings.complete();
}

void HidingStep::conceal(Batch& batch, Event& event) const {
  const std::string shape = bare_shape_of(event.body, event.observed);
  if (unparsed_ == Unparsed::hold && holder_ != nullptr && event.dropped_by == 0)
    if (const std::string sealed = holder_->seal(event.body); !sealed.empty())
      event.set(batch.arena, names::held, Value::text(batch.arena.copy(sealed)));
  event.body = batch.arena.copy(shape);
  event.concealed = true;
  for (std::size_t i = 0; i < event.field_count;) {
    const Field f = event.fields[i];
    if (field_name(f.name).starts_with("dingle.") || !event.erase(batch.arena, f.name)) ++i;
  }
}

}  // namespace dingle
