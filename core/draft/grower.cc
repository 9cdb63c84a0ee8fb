#include "core/draft/grower.h"

#include <algorithm>
#include <set>

#include "core/draft/rows.h"
#include "core/severity.h"
#include "core/template/lexemes.h"
#include "core/template/syntax.h"

namespace dingle {
namespace {

using Form = Token::Form;

constexpr double kMajority = 0.75;
constexpr std::size_t kMostTemplates = 24, kMostParts = 12, kFewShapes = 7, kMostWords = 14, kDeepest = 12,
                      kLongestPhrase = 8, kDeepestMajority = 3;

const Token kEnd{};

bool is_phrase_sign(const Token& t) {
  return t.kind == Form::sign && std::string_view("|;,:>]").find(t.text[0]) != std::string_view::npos;
}

// How many words, with nothing but blanks between them, stand from a sign on to the end of the line, and the token with which
// they begin; none if that is before `from`.
struct Phrase {
  std::size_t words = 0, begin = 0;
};
Phrase phrase_of(const DraftRow& row, std::size_t from) {
  std::size_t at = row.tokens.size(), words = 0;
  while (at > from && (row.tokens[at - 1].kind == Form::word || row.tokens[at - 1].kind == Form::blank))
    words += row.tokens[--at].kind == Form::word;
  const bool begins = at != 0 && at < row.tokens.size() && row.tokens[at].kind == Form::word &&
                      is_phrase_sign(row.tokens[at - 1]);
  return begins && words <= kLongestPhrase ? Phrase{words, at} : Phrase{};
}

}  // namespace

const Token& DraftGrower::At::ahead(std::size_t n) const {
  return token + n < row->tokens.size() ? row->tokens[token + n] : kEnd;
}

std::string_view DraftGrower::At::rest() const {
  if (token >= row->tokens.size()) return {};
  const char* from = row->tokens[token].text.data();
  return {from, static_cast<std::size_t>(row->rest.data() + row->rest.size() - from)};
}

// One sign for each run without blanks, with the signs around it: "v", "[v]", "v,". Forms of values do not
// count.
std::string DraftGrower::skeleton(const At& at, std::size_t from, std::size_t most) {
  std::string out;
  bool inside = false;  // a value has begun in this run
  std::string signs;    // behind the value, so far
  std::size_t runs = 0;
  for (std::size_t i = from;; ++i) {
    const Token& t = at.ahead(i);
    if (t.kind == Form::end || t.kind == Form::blank) {
      out += signs;
      signs.clear();
      inside = false;
      if (t.kind == Form::end) return out + "$";
      out += ' ';
      if (++runs == most) return out;
    } else if (t.kind == Form::sign) {
      if (inside)
        signs += t.text;
      else
        out += t.text;
    } else {
      if (!inside) out += 'v';
      inside = true;
      signs.clear();  // what stood between two values belongs to the run
    }
  }
}

std::string DraftGrower::whole_skeleton(const At& at) {
  std::string out = skeleton(at, 0, 40);
  // Phrases at the end are alike, however many words they have.
  const std::size_t words = phrase_of(*at.row, at.token).words;
  if (words > 1 && out.ends_with('$')) out.resize(out.size() - 2 * (words - 1) - 1), out += '$';
  return out;
}

// Of the run that starts here, by the forms of its tokens.
std::string DraftGrower::run_skeleton(const At& at) {
  std::string out;
  for (std::size_t i = 0;; ++i) {
    const Token& t = at.ahead(i);
    if (t.kind == Form::end || t.kind == Form::blank) return out;
    if (t.kind == Form::sign)
      out += t.text;
    else
      out += static_cast<char>('A' + static_cast<int>(t.kind == Form::decimal ? Form::integer : t.kind));
  }
}

double DraftGrower::agreement(const Rows& rows, std::size_t from) {
  std::map<std::string, std::size_t> counts;
  std::size_t most = 0;
  for (const At& at : rows) most = std::max(most, ++counts[skeleton(at, from, 5)]);
  return static_cast<double>(most) / static_cast<double>(rows.size());
}

void DraftGrower::add_literal(State& state, std::string_view text) {
  state.text += escaped_literal(text);
  state.before += text;
  state.open = false;
}

void DraftGrower::capture(Rows& rows, State& state, const std::string& pattern, const Token& example,
                          std::size_t tokens) {
  std::string after;
  for (std::size_t i = tokens; i < tokens + 4; ++i) after += rows[0].ahead(i).text;
  const std::string name = pattern == "level" ? state.names.unique("severity")
                                              : state.names.name_for(example, state.before, after);
  state.text += "{" + name + (pattern == "json" ? "." : "") + ":" + pattern + "}";
  state.before.clear();
  for (At& at : rows) at.token += tokens;
}

std::vector<std::string> DraftGrower::grow(const std::vector<DraftRow>& rows, const std::string& begin,
                                           DraftNames names) {
  std::vector<std::string> out;
  Rows all;
  for (const DraftRow& row : rows) all.push_back({&row, 0});
  State state;
  state.text = begin;
  state.names = std::move(names);
  if (!all.empty()) grow(std::move(all), std::move(state), out, 0);
  return out;
}

void DraftGrower::free_text(State& state, std::vector<std::string>& out) {
  out.push_back(state.text + "{" + state.names.unique("message") + "}");
  ++made_;
}

// Phrases up to the end of the line: one text, not a template for each.
bool DraftGrower::phrase(const Rows& rows) {
  std::set<std::string_view> phrases;
  std::size_t several = 0;
  for (const At& at : rows) {
    const auto [words, begin] = phrase_of(*at.row, at.token);
    if (words == 0 || begin != at.token) return false;
    several += words > 1;
    phrases.insert(at.rest());
  }
  return several * 5 > rows.size() && phrases.size() > 1;
}

// Most rows go on with one sign or word, some with something else: these are another kind of message.
bool DraftGrower::majority(const Rows& rows, const State& state, std::vector<std::string>& out,
                           std::size_t depth) {
  if (depth >= kDeepestMajority || rows.size() < 10) return false;
  const auto key = [](const At& at) {
    const Token& t = at.here();
    return t.kind == Form::sign || is_wordlike(t.kind) ? std::string(t.text) : std::string();
  };
  Rows most = rows, others = rows;
  if (!keep_commonest(most, key, kMajority)) return false;
  const std::string common = key(most[0]);
  if (common.empty()) return false;
  std::erase_if(others, [&](const At& at) { return key(at) == common; });
  int number = 0;
  if (others.size() < 2 || made_ + 2 > kMostTemplates || severity_number_of(common, number)) return false;
  grow(std::move(most), state, out, depth + 1);
  grow(std::move(others), state, out, depth + 1);
  return true;
}

// A template for each shape of what is left, if there are a few; else for each kind of the next token.
bool DraftGrower::part(const Rows& rows, const State& state, std::vector<std::string>& out,
                       std::size_t depth) {
  if (depth >= 3) return false;
  std::map<std::string, Rows> by_shape, by_kind;
  std::set<std::string_view> first_words;
  for (const At& at : rows) {
    const Token& t = at.here();
    by_shape[whole_skeleton(at)].push_back(at);
    if (is_wordlike(t.kind)) first_words.insert(t.text);
    by_kind[t.kind == Form::sign || t.kind == Form::blank
                ? std::string(t.text)
                : "\x01" + std::to_string(static_cast<int>(t.kind == Form::dotted ? Form::word : t.kind))]
        .push_back(at);
  }
  if (split(by_shape, rows.size(), state, out, depth, kFewShapes)) return true;
  // Few first words, each with a shape or two of its own.
  if (first_words.size() <= kMostWords && depth == 0) {
    std::map<std::string, Rows> by_word;
    for (const At& at : rows)
      by_word[is_wordlike(at.here().kind) ? std::string(at.here().text) : std::string("\x01")].push_back(at);
    if (split(by_word, rows.size(), state, out, depth, kMostWords)) return true;
  }
  return by_kind.size() > 1 && split(by_kind, rows.size(), state, out, depth, kMostParts);
}

bool DraftGrower::split(const std::map<std::string, Rows>& parts, std::size_t all, const State& state,
                        std::vector<std::string>& out, std::size_t depth, std::size_t most) {
  const std::size_t least = std::max<std::size_t>(2, all / 50);
  std::size_t covered = 0, large = 0;
  for (const auto& [key, group] : parts)
    if (group.size() >= least) ++large, covered += group.size();
  if (large < 2 || large > most || made_ + large > kMostTemplates ||
      static_cast<double>(covered) < 0.9 * static_cast<double>(all))
    return false;
  std::vector<const std::pair<const std::string, Rows>*> order;
  for (const auto& entry : parts)
    if (entry.second.size() >= least) order.push_back(&entry);
  std::stable_sort(order.begin(), order.end(),
                   [](const auto* a, const auto* b) { return a->second.size() > b->second.size(); });
  for (const auto* entry : order) {
    State own = state;
    grow(entry->second, std::move(own), out, depth + 1);
  }
  return true;
}

// The pattern for pairs of keys and values up to the end, parted by blanks, or by commas and blanks; "" if these are none.
std::string_view DraftGrower::pairs(const Rows& rows) {
  const auto count = [](const At& at, std::size_t& commas) {
    std::size_t n = 0;
    for (std::size_t i = 0;;) {
      if (!is_wordlike(at.ahead(i).kind) || at.ahead(i + 1).text != "=") return std::size_t{0};
      i += 2;
      while (at.ahead(i).kind != Form::blank && at.ahead(i).kind != Form::end) ++i;
      ++n;
      if (at.ahead(i).kind == Form::end) return n;
      if (at.ahead(i).text != " ") return std::size_t{0};
      commas += at.ahead(i - 1).text == ",";
      ++i;
    }
  };
  std::size_t good = 0, by_comma = 0;
  for (const At& at : rows) {
    std::size_t commas = 0;
    const std::size_t n = count(at, commas);
    good += n >= 2;
    by_comma += n >= 2 && commas == n - 1;
  }
  if (static_cast<double>(good) < kNearlyAll * static_cast<double>(rows.size())) return {};
  return by_comma == good ? "{:pairs(separator=\",\")}" : "{:pairs}";
}

void DraftGrower::grow(Rows rows, State state, std::vector<std::string>& out, std::size_t depth) {
  if (depth > kDeepest) return free_text(state, out);
  for (int guard = 0; guard < 300; ++guard) {
    const auto ended = static_cast<std::size_t>(
        std::count_if(rows.begin(), rows.end(), [](const At& at) { return at.here().kind == Form::end; }));
    if (ended == rows.size()) {
      out.push_back(state.text);
      ++made_;
      return;
    }
    if (ended != 0) {
      // Some rows go on: an optional part, if they go on in one way.
      Rows longer = rows;
      std::erase_if(longer, [](const At& at) { return at.here().kind == Form::end; });
      if (static_cast<double>(ended) < 0.01 * static_cast<double>(rows.size())) {
        rows = std::move(longer);
        continue;
      }
      std::vector<std::string> ways;
      State own = state;
      grow(longer, own, ways, depth + 1);
      if (ways.size() == 1 && ways[0].starts_with(state.text)) {
        const std::string suffix = ways[0].substr(state.text.size());
        // A text before the optional part would take what it begins with, unless a literal parts them.
        if (!state.open || (!suffix.empty() && suffix[0] != '{')) {
          out.push_back(state.text + "{[}" + suffix + "{]}");
          return;
        }
      }
      for (std::string& way : ways) out.push_back(std::move(way));
      out.push_back(state.text);
      ++made_;
      return;
    }
    if (!state.open)
      if (const std::string_view pattern = pairs(rows); !pattern.empty()) {
        out.push_back(state.text + std::string(pattern));
        ++made_;
        return;
      }
    bool done = false;
    if (!state.open && phrase(rows)) return free_text(state, out);
    if (literal(rows, state)) continue;
    if (!state.open && majority(rows, state, out, depth)) return;
    if (chunk(rows, state)) continue;
    if (!state.open && typed(rows, state)) continue;
    if (words(rows, state, out, depth, done)) {
      if (done) return;
      continue;
    }
    if (part(rows, state, out, depth)) return;
    if (anchor(rows, state)) continue;
    if (state.open) {
      // Nothing ends the last text: it takes the rest.
      const std::size_t brace = state.text.rfind('{');
      const std::size_t colon = state.text.find(':', brace);
      out.push_back(state.text.substr(0, colon == std::string::npos ? state.text.size() - 1 : colon) + "}");
      ++made_;
      return;
    }
    return free_text(state, out);
  }
  free_text(state, out);
}

}  // namespace dingle
