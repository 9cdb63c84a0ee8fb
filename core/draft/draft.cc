#include "core/draft/draft.h"

#include <algorithm>
#include <cstring>
#include <deque>
#include <map>
#include <set>

#include "core/ascii.h"
#include "core/draft/compiled.h"
#include "core/draft/grower.h"
#include "core/draft/picks.h"
#include "core/draft/shared_head.h"
#include "core/draft/table.h"
#include "core/json_fields.h"
#include "core/json_text.h"
#include "core/template/set.h"
#include "core/template/syntax.h"

namespace dingle {
namespace {

constexpr std::size_t kMostLines = 100'000, kMostStudied = 4'000;
constexpr double kObjects = 0.95;

struct Layout {
  const char* name;
  const char* text;
};
// Common layouts; what stands behind one of them is grown.
constexpr Layout kLayouts[] = {
    {"access log",
     "{client.address:ip} {:unspaced} {user.name:unspaced} [{at:clf_time}] \"{:http_request}\" "
     "{http.response.status_code:int} {(}{http.response.size:int}{|}-{)}{[} \"{referrer}\" "
     "\"{user_agent.original}\"{]}"},
    {"syslog (RFC 5424)",
     "<{:syslog_priority}>1 {(}-{|}{at:rfc3339}{)} {(}-{|}{host.name:unspaced}{)} "
     "{(}-{|}{syslog.app_name:unspaced}{)} {(}-{|}{syslog.proc_id:unspaced}{)} "
     "{(}-{|}{syslog.msg_id:unspaced}{)} {(}-{|}{syslog.structured_data:/(\\[([^\\]\\\\]|\\\\.)*\\])+/}{)} "},
    {"syslog (RFC 3164)",
     "{[}<{:syslog_priority}>{]}{at:syslog_time} {host.name:unspaced} "
     "{syslog.app_name:/[\\w.\\/-]+(?=[\\[:])/}{[}[{syslog.proc_id:int}]{]}: "},
    {"syslog with full times",
     "{[}<{:syslog_priority}>{]}{at:rfc3339} {host.name:unspaced} "
     "{syslog.app_name:/[\\w.\\/-]+(?=\\[\\d)/}[{syslog.proc_id:int}]: "},
};

bool begins_indented(std::string_view line) { return !line.empty() && (line[0] == ' ' || line[0] == '\t'); }
bool continues(std::string_view line) {
  return begins_indented(line) || line.starts_with("Caused by: ") || line.starts_with("Suppressed: ");
}

class Drafter {
 public:
  Drafter(const std::vector<std::string_view>& lines, std::int64_t now) : now_(now) {
    const std::size_t step = lines.size() / kMostLines + 1;
    for (std::size_t i = 0; i < lines.size(); i += step)
      if (!lines[i].empty()) lines_.push_back(lines[i]);
  }

  Draft run() {
    join();
    draft_.lines = lines_.size();
    if (lines_.empty()) return draft_;
    if (json() || csv()) return finish();
    for (int pass = 0; pass < 4; ++pass) {
      for (const Layout& one : kLayouts) layout(one, unmatched(lines_));
      const std::vector<std::string_view> left = unmatched(lines_);
      if (left.empty() || (pass > 0 && left.size() < std::max<std::size_t>(2, lines_.size() / 500))) break;
      const std::size_t before = texts_.size();
      grow(left, "", {}, "");
      if (texts_.size() == before) break;
    }
    return finish();
  }

 private:
  // Lines that belong to the one before: those that are indented, and where events begin with a time all that
  // do not.
  void join() {
    std::size_t timed = 0, going_on = 0;
    std::map<std::string, std::size_t> patterns;
    for (std::string_view line : lines_) {
      if (continues(line)) {
        ++going_on;
        continue;
      }
      const auto tokens = tokens_of(line.substr(0, 60), now_);
      if (!tokens.empty() && tokens[0].kind == Token::Form::time) ++timed, ++patterns[tokens[0].pattern];
    }
    if (going_on * 200 < lines_.size() || going_on == 0 || going_on == lines_.size()) return;
    const bool by_time = static_cast<double>(timed) > 0.8 * static_cast<double>(lines_.size() - going_on) &&
                         patterns.size() == 1 && patterns.begin()->first != kEitherOrder;
    std::shared_ptr<const Template> start;
    if (by_time) {
      const std::string text = "{:" + patterns.begin()->first + "}";
      start = compiled(text, {.open_end = true});
      draft_.join = "starts_with: '" + text + "'";
    } else {
      draft_.join = "indented: true";
    }
    std::vector<std::string_view> heads;
    std::vector<Value> values(2);
    for (std::string_view line : lines_) {
      const bool more = start ? !start->match(line, {nullptr, now_}, values.data()) : begins_indented(line);
      if (more)
        ++draft_.joined;
      else
        heads.push_back(line);
    }
    lines_ = std::move(heads);
  }

  bool json() {
    Arena arena;
    std::map<std::string, std::size_t> keys;
    std::size_t objects = 0;
    const std::size_t step = lines_.size() / kMostStudied + 1;
    std::size_t studied = 0;
    for (std::size_t i = 0; i < lines_.size(); i += step, ++studied) {
      std::vector<Field> members;
      JsonCounts counts;
      if (lines_[i][0] != '{' || !json_members(lines_[i], {}, arena, members, counts).empty()) continue;
      ++objects;
      for (const Field& f : members)
        if (f.value.kind() == Kind::text && f.value.as_text().size() > 2 &&
            f.value.as_text()[2] != ':' &&  // a time of day is no time yet
            !convert_text(f.value.as_text(), Kind::timestamp, {&arena, now_}).absent())
          ++keys[std::string(field_name(f.name))];
    }
    if (static_cast<double>(objects) < kObjects * static_cast<double>(studied)) return false;
    draft_.json = true;
    for (const char* name : {"time", "line.timestamp", "@timestamp", "ts", "at", "date"})
      if (draft_.time_field.empty() && keys.contains(name)) draft_.time_field = name;
    if (draft_.time_field.empty() && !keys.empty()) draft_.time_field = keys.begin()->first;
    for (std::string_view line : lines_) {
      std::vector<Field> members;
      JsonCounts counts;
      Arena own;
      if (line[0] == '{' && json_members(line, {}, own, members, counts).empty()) continue;
      ++draft_.unexplained;
      if (draft_.unexplained_examples.size() < 10)
        draft_.unexplained_examples.emplace_back(line.substr(0, 500));
    }
    return true;
  }

  // Lines that go on while a double quote is open, as in CSV; nothing if there are none.
  std::vector<std::string_view> joined_in_quotes() {
    constexpr std::size_t kMostOfOne = 500;
    std::vector<std::string_view> all;
    for (std::size_t i = 0; i < lines_.size();) {
      const auto odd = [&](std::size_t line) {
        return std::count(lines_[line].begin(), lines_[line].end(), '"') % 2 != 0;
      };
      std::size_t end = i + 1;
      if (odd(i)) {
        while (end < lines_.size() && end - i < kMostOfOne && !odd(end)) ++end;
        if (end == lines_.size() || end - i == kMostOfOne) return {};  // it is never closed
        ++end;
      }
      if (end == i + 1) {
        all.push_back(lines_[i++]);
        continue;
      }
      std::string& text = whole_.emplace_back(lines_[i]);
      for (++i; i < end; ++i) (text += '\n') += lines_[i];
      all.push_back(text);
    }
    return all.size() == lines_.size() ? std::vector<std::string_view>() : all;
  }

  bool csv() {
    auto table = draft_table(lines_, now_);
    if (!table) {
      const std::vector<std::string_view> whole = joined_in_quotes();
      if (!whole.empty()) table = draft_table(whole, now_);
      if (!table) return false;
      draft_.join = "quoted: true";
      draft_.joined += lines_.size() - whole.size();
      lines_ = whole;
      draft_.lines = lines_.size();
    }
    texts_.push_back({table->text, "CSV"});
    draft_.time_field = table->time_field;
    draft_.notes.push_back(table->header
                               ? "the first line names the columns: its template only keeps it from "
                                 "being unmatched; a `drop` step takes it away"
                               : "no line names the columns: give them names");
    if (table->header && !unmatched(lines_).empty())
      texts_.push_back({escaped_literal(lines_[0]), "names of columns"});
    return true;
  }

  // The lines that begin as a common layout does: what stands behind it is grown.
  void layout(const Layout& layout, const std::vector<std::string_view>& lines) {
    auto t = compiled(std::string(layout.text) + "{dingle_rest:rest}");
    if (!t) return;
    std::vector<Value> values(t->value_count());
    std::vector<std::string_view> rests;
    Arena arena;
    const auto some = studied(lines);
    for (std::string_view line : some)
      if (t->match(line, {&arena, now_}, values.data()))
        rests.push_back(values[t->slots().size() - 1].as_text());
    if (rests.size() < std::max<std::size_t>(2, some.size() / 50)) return;
    DraftNames names;
    for (const Slot& s : t->slots()) names.unique(s.name);
    grow(rests, layout.text, names, layout.name);
  }

  static std::vector<std::string_view> studied(const std::vector<std::string_view>& lines) {
    const std::size_t step = lines.size() / kMostStudied + 1;
    std::vector<std::string_view> some;
    for (std::size_t i = 0; i < lines.size(); i += step) some.push_back(lines[i]);
    return some;
  }

  void grow(const std::vector<std::string_view>& lines, const std::string& begin, DraftNames names,
            const std::string& layout_name) {
    std::vector<DraftRow> rows;
    for (std::string_view line : studied(lines)) {
      DraftRow row;
      row.rest = line.substr(0, 4000);
      row.tokens = tokens_of(row.rest, now_);
      rows.push_back(std::move(row));
    }
    for (std::string& text : DraftGrower(draft_.notes).grow(rows, begin, std::move(names))) {
      if (text.empty()) continue;
      if (!compiled(text)) {  // a text that nothing ends: leave it open from there on
        const std::size_t brace = text.rfind("{");
        text = text.substr(0, brace == std::string::npos ? 0 : brace) + "{message}";
        if (!compiled(text)) continue;
      }
      if (std::none_of(texts_.begin(), texts_.end(), [&](const auto& t) { return t.first == text; }))
        texts_.emplace_back(text, layout_name);
    }
  }

  std::vector<std::string_view> unmatched(const std::vector<std::string_view>& lines) const {
    std::vector<std::shared_ptr<const Template>> all;
    for (const auto& [text, layout_name] : texts_)
      if (auto t = compiled(text)) all.push_back(t);
    const TemplateSet set(all);
    std::vector<std::string_view> left;
    std::vector<Value> values;
    std::vector<Field> found;
    for (std::string_view line : lines) {
      Arena arena;
      found.clear();
      if (set.match(line, {&arena, now_, &found}, values) < 0) left.push_back(line);
    }
    return left;
  }

  // `{name:word} {name2:word}` as `{name}`.
  static std::string names_joined(std::string text) {
    static constexpr std::string_view kFirst = "{name:word}";
    for (std::size_t at = text.find(kFirst); at != std::string::npos; at = text.find(kFirst, at + 1)) {
      std::size_t end = at + kFirst.size();
      while (text.compare(end, 6, " {name") == 0 && end + 13 <= text.size() && is_digit(text[end + 6]) &&
             text.compare(end + 7, 6, ":word}") == 0)
        end += 13;
      if (end == at + kFirst.size()) continue;
      const unsigned joined = static_cast<unsigned>((end - at - kFirst.size()) / 13);
      text.replace(at, end - at, "{name}");
      // Those behind it are counted on from there.
      for (char n = '2'; n + static_cast<int>(joined) <= '9'; ++n)
        if (const std::size_t later =
                text.find(std::string("{name") + static_cast<char>(n + static_cast<int>(joined)));
            later != std::string::npos)
          text[later + 5] = n;
    }
    return text;
  }

  // Templates that differ only in how many words a name has ("Tern", "Storm Petrel") become one.
  void merge() {
    auto wide = [](const std::string& text) {
      std::string out;
      for (std::size_t i = 0; i < text.size();) {
        const std::size_t close = text.find('}', i);
        if (text[i] == '{' && close != std::string::npos && close >= i + 7 &&
            text.compare(close - 5, 6, ":word}") == 0) {
          const std::string name = text.substr(i + 1, close - 6 - i);
          out += "{" + name + "}";
          i = close + 1;
          // The words behind it that were named after it.
          while (text.compare(i, name.size() + 3, " {" + name + "2") == 0 &&
                 text.compare(i + name.size() + 3, 6, ":word}") == 0)
            i += name.size() + 9;
          continue;
        }
        out += text[i++];
      }
      return out;
    };
    for (auto& [text, layout_name] : texts_)  // two words that nothing tells apart are one text
      if (const std::string joined = names_joined(text); joined != text && compiled(joined)) text = joined;
    std::map<std::string, std::size_t> counts;
    for (const auto& [text, layout_name] : texts_) ++counts[wide(text)];
    std::vector<std::pair<std::string, std::string>> merged;
    for (const auto& [text, layout_name] : texts_) {
      const std::string key = wide(text);
      const std::string& chosen = counts[key] > 1 && compiled(key) ? key : text;
      if (std::none_of(merged.begin(), merged.end(), [&](const auto& t) { return t.first == chosen; }))
        merged.emplace_back(chosen, layout_name);
    }
    texts_ = std::move(merged);
  }

  Draft finish() {
    merge();
    // Narrow templates first: those that end with free text would take the lines of others.
    std::stable_sort(texts_.begin(), texts_.end(), [](const auto& a, const auto& b) {
      auto weight = [](const std::string& text) {
        std::size_t literal = 0;
        bool inside = false;
        for (char c : text) {
          if (c == '{') inside = true;
          literal += !inside;
          if (c == '}') inside = false;
        }
        return literal;
      };
      const bool open_a = a.first.ends_with("{message}"), open_b = b.first.ends_with("{message}");
      if (open_a != open_b) return open_b;
      return open_a && weight(a.first) > weight(b.first);
    });
    std::vector<std::shared_ptr<const Template>> all;
    for (const auto& [text, layout_name] : texts_) {
      all.push_back(compiled(text));
      draft_.templates.push_back({text, 0, "", layout_name, 0});
    }
    if (!draft_.json) {
      const TemplateSet set(all);
      std::vector<Value> values;
      std::vector<Field> found;
      for (std::string_view line : lines_) {
        Arena arena;
        found.clear();
        const int which = set.match(line, {&arena, now_, &found}, values);
        if (which < 0) {
          ++draft_.unexplained;
          if (draft_.unexplained_examples.size() < 10)
            draft_.unexplained_examples.emplace_back(line.substr(0, 500));
          continue;
        }
        DraftTemplate& t = draft_.templates[static_cast<std::size_t>(which)];
        if (t.lines++ == 0) t.example = std::string(line.substr(0, 500));
        for (const Field& f : found)  // pairs name their time themselves
          if (draft_.time_field.empty())
            for (const char* name : {"ts", "time", "line.timestamp", "at", "date"})
              if (field_name(f.name) == name &&
                  !convert_text(f.value.is_textual() ? f.value.as_text()
                                                     : std::string_view(found_text_ = f.value.to_string()),
                                Kind::timestamp, {&arena, now_})
                       .absent())
                draft_.time_field = name;
      }
    }
    std::erase_if(draft_.templates, [](const DraftTemplate& t) { return t.lines == 0; });
    for (DraftTemplate& t : draft_.templates) {
      if (draft_.joined != 0 && whole_.empty()) {
        // The lines behind the first go to one field.
        const std::string more = "{[}{:/\\n/}{exception.stacktrace:rest}{]}";
        if (t.text.ends_with("{message}"))
          t.text = t.text.substr(0, t.text.size() - 9) + "{message:line}" + more;
        else if (compiled(t.text + more))
          t.text += more;
      }
      if (draft_.time_field.empty() && t.text.find("{at:") != std::string::npos) draft_.time_field = "at";
    }
    if (!draft_.json && draft_.joined == 0) draft_.heads = share_heads(draft_.templates, lines_, now_);
    pick();
    return draft_;
  }

  // Of the free text at the end of lines.
  void pick() {
    std::vector<std::shared_ptr<const Template>> all;
    DraftNames names;
    for (const DraftTemplate& t : draft_.templates) {
      all.push_back(compiled(t.text));
      for (const Slot& slot : all.back()->slots()) names.unique(slot.name);
    }
    const TemplateSet set(all);
    std::vector<Value> values;
    std::vector<Field> found;
    std::vector<std::string_view> texts;
    for (std::string_view line : studied(lines_)) {
      Arena arena;
      found.clear();
      const int which = set.match(line, {&arena, now_, &found}, values);
      if (which < 0) continue;
      const std::vector<Slot>& slots = all[static_cast<std::size_t>(which)]->slots();
      for (std::size_t i = 0; i < slots.size(); ++i)
        if (slots[i].name == "message" && values[i].is_textual()) texts.push_back(values[i].as_text());
    }
    draft_.picks = draft_picks(texts, now_, std::move(names));
  }

  std::int64_t now_;
  std::deque<std::string> whole_;  // lines that were put together
  std::vector<std::string_view> lines_;
  std::vector<std::pair<std::string, std::string>> texts_;  // template, layout
  std::string found_text_;
  Draft draft_;
};

}  // namespace

std::string Draft::yaml() const {
  std::string out;
  auto quoted = [](const std::string& text) {
    // What YAML would fold or refuse stands in double quotes, escaped (YAML 1.2, 5.7).
    if (std::any_of(text.begin(), text.end(),
                    [](char c) { return static_cast<unsigned char>(c) < ' ' && c != '\t'; })) {
      std::string q;
      append_json_string(q, text);
      return q;
    }
    std::string q = "'";
    for (char c : text) q += c == '\'' ? std::string("''") : std::string(1, c);
    return q + "'";
  };
  if (!join.empty()) out += "# for the source:  files: { ..., join: { " + join + " } }\n";
  out += "steps:\n";
  if (json) out += "  - json: {}\n";
  const auto list = [&](const char* begin, const std::vector<std::string>& texts) {
    out += begin;
    for (const std::string& text : texts) out += "        - " + quoted(text) + "\n";
  };
  std::vector<std::string> first, second;
  for (const std::string& head : heads) first.push_back(head + "{message}");
  for (const DraftTemplate& t : templates) {
    if (t.head == 0)
      first.push_back(t.text);
    else if (t.text.substr(t.head) != "{message}")
      second.push_back(t.text.substr(t.head));
  }
  if (!first.empty()) list("  - parse:\n      templates:\n", first);
  if (!second.empty()) {
    second.push_back("{message}");  // what none of them matches stays as it is
    list("  - parse:\n      field: message\n      templates:\n", second);
  }
  if (!picks.empty()) {
    std::vector<std::string> texts;
    for (const DraftTemplate& t : picks) texts.push_back(t.text);
    list("  - pick:\n      field: message\n      templates:\n", texts);
  }
  if (!time_field.empty()) out += "  - time: { field: " + time_field + " }\n";
  return out;
}

Draft draft_templates(const std::vector<std::string_view>& lines, std::int64_t now) {
  return Drafter(lines, now).run();
}

}  // namespace dingle
