// What rows go on with, where they go on in one way: literal text, values of a type, words, runs, free text up to a sign.
#include <algorithm>
#include <set>

#include "core/draft/grower.h"
#include "core/draft/rows.h"
#include "core/severity.h"
#include "core/template/lexemes.h"

namespace dingle {
namespace {

using Form = Token::Form;

constexpr std::size_t kFewWords = 7, kDeepestSplit = 3;

}  // namespace

// The same sign, blank or word in all rows.
bool DraftGrower::literal(Rows& rows, State& state) {
  auto key = [](const At& at) {
    const Token& t = at.here();
    return t.kind == Form::sign || t.kind == Form::blank || is_wordlike(t.kind) ? std::string(t.text)
                                                                                : std::string("\x01");
  };
  Rows kept = rows;
  if (!keep_commonest(kept, key, kNearlyAll) || key(kept[0]) == "\x01") {
    // Blanks of differing lengths.
    if (!std::all_of(rows.begin(), rows.end(), [](const At& at) { return at.here().kind == Form::blank; }))
      return false;
    state.text += "{ }";
    state.before += ' ';
    state.open = false;
    for (At& at : rows) ++at.token;
    return true;
  }
  const Token& t = kept[0].here();
  if (t.kind == Form::blank && t.text.size() > 2 && t.text.find('\t') == std::string_view::npos) {
    // Columns are filled up with blanks: another value brings another number of them.
    state.text += "{ }";
    state.before += ' ';
    state.open = false;
    for (At& at : rows) ++at.token;
    return true;
  }
  // A word that is the same in all rows because there are few of them may be a value all the same: a level,
  // say.
  if (is_wordlike(t.kind) && !state.before.empty() && state.before.back() == '=') return false;
  int number = 0;
  if (t.kind == Form::word && t.text.size() > 2 && kept[0].ahead(1).text != "=" &&
      !state.names.taken("severity") && severity_number_of(t.text, number))
    return false;
  rows = std::move(kept);
  add_literal(state, t.text);
  for (At& at : rows) ++at.token;
  return true;
}

// Values of one type in all rows.
bool DraftGrower::typed(Rows& rows, State& state) {
  auto kind_key = [](const At& at) {
    const Form kind = at.here().kind;
    return std::to_string(static_cast<int>(is_typed(kind) ? kind : Form::end));
  };
  Rows kept = rows;
  if (keep_commonest(kept, kind_key, kNearlyAll) && is_typed(kept[0].here().kind)) {
    rows = std::move(kept);
    const Token example = rows[0].here();
    std::string pattern = pattern_of(example);
    if (example.kind == Form::time) {
      std::set<std::string> patterns;
      for (const At& at : rows) patterns.insert(at.here().pattern);
      const bool either = patterns.erase(kEitherOrder) != 0;
      if (either && patterns.empty()) {
        patterns.insert("day_first_time");
        notes_.push_back("day and month of \"" + std::string(example.text) +
                         "\" can be read either way round in all lines; the day is taken to come first, "
                         "month_first_time is the other order");
      }
      pattern = patterns.size() == 1 ? *patterns.begin() : "time";
    }
    if (example.kind == Form::path || example.kind == Form::uri) {
      // These end where they must: before a blank or the end.
      const bool spaced = std::all_of(rows.begin(), rows.end(), [](const At& at) {
        return at.ahead(1).kind == Form::blank || at.ahead(1).kind == Form::end;
      });
      if (example.kind == Form::path && spaced) pattern = "unspaced";
    }
    capture(rows, state, pattern, example, 1);
    state.open = pattern == "path" || pattern == "unspaced";
    return true;
  }
  // Whole and decimal numbers mixed.
  auto number = [](const At& at) {
    return at.here().kind == Form::integer || at.here().kind == Form::decimal;
  };
  const auto numbers = static_cast<std::size_t>(std::count_if(rows.begin(), rows.end(), number));
  if (static_cast<double>(numbers) >= kNearlyAll * static_cast<double>(rows.size())) {
    std::erase_if(rows, [&](const At& at) { return !number(at); });
    Token example = rows[0].here();
    example.kind = Form::decimal;
    capture(rows, state, "decimal", example, 1);
    return true;
  }
  // A value, or a dash where there is none.
  auto dash = [](const At& at) {
    return at.here().kind == Form::sign && at.here().text == "-" && !is_value(at.ahead(1).kind);
  };
  const auto dashes = static_cast<std::size_t>(std::count_if(rows.begin(), rows.end(), dash));
  if (dashes == 0 || dashes == rows.size()) return false;
  Rows others = rows;
  std::erase_if(others, dash);
  if (!keep_commonest(others, kind_key, kNearlyAll) || !is_typed(others[0].here().kind)) return false;
  const Token example = others[0].here();
  std::erase_if(rows, [&](const At& at) { return !dash(at) && at.here().kind != example.kind; });
  state.text += "{(}";
  capture(rows, state, pattern_of(example), example, 1);
  state.text += "{|}-{)}";
  return true;
}

bool DraftGrower::agreement_of_next(const Rows& rows) {
  return std::all_of(rows.begin(), rows.end(), [&](const At& at) {
    return at.ahead(1).kind == rows[0].ahead(1).kind && at.ahead(1).text == rows[0].ahead(1).text &&
           at.ahead(1).kind != Form::end;
  });
}

// Whether what follows a word has one sequence of forms for each word, nearly always, and not the same for all of them.
bool DraftGrower::forms_differ_behind(const Rows& rows) {
  std::map<std::string_view, std::map<std::string, std::size_t>> by_word;
  for (const At& at : rows) {
    std::string forms;
    for (std::size_t i = 1; i < 12 && at.ahead(i).kind != Form::end; ++i)
      forms += static_cast<char>('A' + static_cast<int>(at.ahead(i).kind));
    ++by_word[at.here().text][forms];
  }
  std::set<std::string> all;
  for (const auto& [word, forms] : by_word) {
    std::size_t sum = 0, most = 0;
    std::string commonest;
    for (const auto& [form, count] : forms) {
      sum += count;
      if (count > most) most = count, commonest = form;
    }
    if (sum < 3 || static_cast<double>(most) < 0.8 * static_cast<double>(sum)) return false;
    all.insert(commonest);
  }
  return all.size() > 1;
}

// Words that differ: levels, values between fixed signs, or the beginnings of different messages.
bool DraftGrower::words(Rows& rows, State& state, std::vector<std::string>& out, std::size_t depth,
                        bool& done) {
  const std::size_t n = rows.size();
  auto wordlike = [](const At& at) { return is_wordlike(at.here().kind); };
  const auto count = static_cast<std::size_t>(std::count_if(rows.begin(), rows.end(), wordlike));
  if (static_cast<double>(count) < kNearlyAll * static_cast<double>(n)) return false;
  std::erase_if(rows, [&](const At& at) { return !wordlike(at); });
  int number = 0;
  if (!state.names.taken("severity") && std::all_of(rows.begin(), rows.end(), [&](const At& at) {
        return at.here().kind == Form::word && at.ahead(1).text != "=" && at.here().text.size() > 2 &&
               severity_number_of(at.here().text, number);
      })) {
    const Token example = rows[0].here();
    capture(rows, state, "level", example, 1);
    return true;
  }
  std::set<std::string_view> values;
  for (const At& at : rows) values.insert(at.here().text);
  // What may follow must end the word for the template as well: a sign or a blank, or the end.
  auto ends = [](const At& at) {
    const Form kind = at.ahead(1).kind;
    return kind == Form::blank || kind == Form::sign || kind == Form::end;
  };
  const bool dotted =
      std::any_of(rows.begin(), rows.end(), [](const At& at) { return at.here().kind == Form::dotted; });
  const double share = agreement(rows, 1);
  const bool follows_key =
      !state.before.empty() && (state.before.back() == '=' || state.before.back() == '|' ||
                                state.before.back() == ';' || state.before.back() == ',');
  // Two words in a row that both differ are the beginning of a free text.
  std::set<std::string_view> next_words;
  for (const At& at : rows)
    if (at.ahead(1).kind == Form::blank && is_wordlike(at.ahead(2).kind)) next_words.insert(at.ahead(2).text);
  const bool wordy = values.size() > 2 && next_words.size() > 2;
  const bool named_class = dotted && values.size() < 200 && agreement_of_next(rows);
  if (named_class && !state.open) {
    const Token example = rows[0].here();
    capture(rows, state, "class_name", example, 1);
    return true;
  }
  // A few words, each followed by values of other forms than the others are, begin messages of their own.
  if (values.size() > 1 && values.size() <= kFewWords && forms_differ_behind(rows)) {
    std::map<std::string, Rows> by_word;
    for (const At& at : rows) by_word[std::string(at.here().text)].push_back(at);
    if (depth < kDeepestSplit && split(by_word, n, state, out, depth, kFewWords)) {
      done = true;
      return true;
    }
  }
  if (!wordy && std::all_of(rows.begin(), rows.end(), ends) &&
      (share >= 0.9 || (follows_key && share >= 0.5)) && !state.open) {
    const Token example = rows[0].here();
    const bool next_blank = std::all_of(rows.begin(), rows.end(), [](const At& at) {
      return at.ahead(1).kind == Form::blank || at.ahead(1).kind == Form::end;
    });
    capture(rows, state, dotted ? (next_blank ? "unspaced" : "class_name") : "word", example, 1);
    state.open = true;
    return true;
  }
  // Messages of a few kinds: a template for each.
  if (part(rows, state, out, depth)) {
    done = true;
    return true;
  }
  return false;
}

// A run without blanks, of whatever form, before the same thing in all rows.
bool DraftGrower::chunk(Rows& rows, State& state) {
  if (state.open) return false;
  // At the beginning of a run, where the runs are of several forms.
  std::map<std::string, std::size_t> forms;
  std::size_t most = 0;
  for (const At& at : rows) {
    if (at.token != 0 && at.row->tokens[at.token - 1].kind != Form::blank &&
        at.row->tokens[at.token - 1].kind != Form::sign)
      return false;
    most = std::max(most, ++forms[run_skeleton(at)]);
  }
  if (static_cast<double>(most) >= kNearlyAll * static_cast<double>(rows.size())) return false;
  Rows behind = rows;
  bool same_sign = true;  // the last token of all the runs is one sign, which is not part of the value
  std::string_view sign;
  for (At& at : behind) {
    std::size_t k = 0;
    while (at.ahead(k).kind != Form::blank && at.ahead(k).kind != Form::end) ++k;
    if (k == 0) return false;
    if (at.ahead(0).kind == Form::quoted || at.ahead(0).kind == Form::json) return false;
    const Token& last = at.ahead(k - 1);
    if (&at == &behind.front()) sign = last.text;
    same_sign = same_sign && k > 1 && last.kind == Form::sign && last.text == sign;
    at.token += k;
  }
  if (same_sign)
    for (At& at : behind) --at.token;
  if (agreement(behind, 0) < 0.9) return false;
  const Token example = rows[0].here();
  Token text = example;
  text.kind = Form::word;
  const std::string name = state.names.name_for(text, state.before, "");
  state.text += "{" + name + ":unspaced}";
  state.before.clear();
  state.open = true;
  rows = std::move(behind);
  return true;
}

// Free text up to a sign that all rows have further on.
bool DraftGrower::anchor(Rows& rows, State& state) {
  if (state.open || rows.size() < 3) return false;
  static constexpr std::string_view kAnchors[] = {" - ", "|", ": ", "; ", "] ", "\" ", " (", ", ", ";"};
  std::string_view best;
  std::size_t nearest = std::string_view::npos;
  for (std::string_view anchor : kAnchors) {
    std::size_t total = 0;
    const bool everywhere = std::all_of(rows.begin(), rows.end(), [&](const At& at) {
      const std::size_t found = at.rest().find(anchor);
      total += found;
      return found != std::string_view::npos && found > 0 && found < 80;
    });
    if (everywhere && total / rows.size() < nearest) nearest = total / rows.size(), best = anchor;
  }
  if (best.empty()) return false;
  // The token at which the anchor begins must be one of its own in every row.
  Rows behind = rows;
  for (At& at : behind) {
    const char* target = at.rest().data() + at.rest().find(best);
    while (at.here().kind != Form::end && at.here().text.data() < target) ++at.token;
    if (at.here().text.data() != target) return false;
  }
  Token text = rows[0].here();
  text.kind = Form::word;
  state.text += "{" + state.names.name_for(text, state.before, "") + "}";
  state.before.clear();
  state.open = true;
  rows = std::move(behind);
  return true;
}

}  // namespace dingle
