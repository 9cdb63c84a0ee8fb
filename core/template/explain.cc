// Running a template's elements one by one, noting what happens: why a line failed, where the fields stand,
// what would help. Must agree with the runners of matcher.inl, which tests compare it with.
#include <algorithm>
#include <cstring>

#include "core/json_text.h"
#include "core/template/template.h"
#include "core/time/formats.h"

namespace dingle {
namespace {

std::string shown(std::string_view text) {
  std::string out = valid_utf8(text);
  std::string quoted;
  // Blanks that look like others, or like nothing: U+00A0, U+2000 to U+200F, U+202F, U+3000, U+FEFF.
  const auto unseen = [&](std::size_t i) -> const char* {
    const std::string_view rest = std::string_view(out).substr(i);
    for (const auto& [bytes, name] :
         std::initializer_list<std::pair<std::string_view, const char*>>{{"\xC2\xA0", "\\u00a0"},
                                                                         {"\xE2\x80\xAF", "\\u202f"},
                                                                         {"\xE3\x80\x80", "\\u3000"},
                                                                         {"\xEF\xBB\xBF", "\\ufeff"}})
      if (rest.starts_with(bytes)) return name;
    static const char* const kOf2000[] = {"\\u2000", "\\u2001", "\\u2002", "\\u2003", "\\u2004", "\\u2005",
                                          "\\u2006", "\\u2007", "\\u2008", "\\u2009", "\\u200a", "\\u200b",
                                          "\\u200c", "\\u200d", "\\u200e", "\\u200f"};
    if (rest.size() >= 3 && rest.starts_with("\xE2\x80") && (rest[2] & 0xF0) == 0x80)
      return kOf2000[rest[2] & 15];
    return nullptr;
  };
  for (std::size_t i = 0; i < out.size(); ++i) {
    const char c = out[i];
    if (const char* name = unseen(i)) {
      quoted += name;
      i += (c & 0xF0) == 0xE0 ? 2 : 1;
    } else if (c == '\n')
      quoted += "\\n";
    else if (c == '\t')
      quoted += "\\t";
    else if (static_cast<unsigned char>(c) < 0x20)
      quoted +=
          "\\x" + std::string(1, "0123456789abcdef"[c >> 4]) + std::string(1, "0123456789abcdef"[c & 15]);
    else
      quoted += c;
  }
  return "\"" + quoted + "\"";
}

// Up to `most` bytes, not cut within a UTF-8 character.
std::string_view beginning(std::string_view text, std::size_t most = 24) {
  std::size_t n = std::min<std::size_t>(text.size(), most);
  while (n < text.size() && n > most - 4 && (static_cast<unsigned char>(text[n]) & 0xC0) == 0x80) --n;
  return text.substr(0, n);
}

}  // namespace

std::string Mismatch::sentence() const {
  std::string text = "column " + std::to_string(offset + 1) + ": ";
  if (too_expensive) return text + "too expensive: the template goes over the line again and again";
  text += "expected ";
  for (std::size_t i = 0; i < expected.size(); ++i)
    text += (i == 0 ? "" : i + 1 == expected.size() ? " or " : ", ") + expected[i];
  text += found.empty() ? ", found the end of the line" : ", found " + shown(found);
  return detail.empty() ? text : text + " (" + detail + ")";
}

std::string Advice::sentence() const {
  if (blanks)
    return "several blanks or a tab stand here: { } takes a run of them, and then the rest of the line "
           "matches";
  std::string text;
  int named = 0;
  for (const Other& other : others) {
    if (!text.empty() && (!other.rest_matches || named == 2)) break;
    ++named;
    text += (text.empty() ? "" : " or ") + ("{:" + other.pattern + "}");
  }
  if (!others.empty()) {
    text += " would match here";
    if (others[0].rest_matches) text += ", and then the rest of the line";
  }
  if (skipping_helps && (others.empty() || !others[0].rest_matches))
    text += (text.empty() ? "" : "; ") +
            (skipped.empty() ? "without " + element + " the rest of the line matches"
                             : "with " + shown(skipped) + " skipped the rest of the line matches");
  return text;
}

class Explainer {
 public:
  struct Taken {
    std::int16_t slot;
    Value value;
    const char *from, *to;
  };
  Explainer(const Template& t, std::string_view line, const MatchContext& context)
      : t_(t),
        p_(t.program_),
        line_(line.data() ? line : std::string_view("", 0)),
        values_(t.slots_.size()),
        state_(line_, with_arena(context), values_.data()) {}

  // The end of what matches from the first element on, or nullptr. Notes whether it is the line's end.
  const char* all() {
    take_time_problem();
    const char* p = run(0, size(), line_.data());
    if (p != nullptr && p != state_.end && !t_.open_end_) failed(p, "the end of the line");
    return p;
  }
  // Whether the elements from `first` on match from `at` to the line's end.
  bool rest_matches(std::uint32_t first, const char* at) {
    const char* p = run(first, size(), at);
    return p != nullptr && (p == state_.end || t_.open_end_);
  }
  std::uint32_t size() const { return static_cast<std::uint32_t>(p_.elements.size()); }

  // What explaining collects: the furthest failure and what was expected there.
  const char* furthest = nullptr;
  std::vector<std::string> expected;
  std::string detail;
  std::vector<Taken> taken;
  std::uint32_t reached = 0;         // the last element of the outermost sequence that was begun
  const char* reached_at = nullptr;  // and where
  const char* begin() const { return line_.data(); }
  const char* end() const { return state_.end; }
  bool too_expensive() const { return state_.too_expensive; }

 private:
  const MatchContext& with_arena(const MatchContext& context) {
    context_ = context;
    if (context_.arena == nullptr) context_.arena = &arena_;
    context_.found = nullptr;
    return context_;
  }
  void failed(const char* at, const std::string& what, std::string more = "") {
    if (furthest != nullptr && at < furthest) return;
    if (furthest == nullptr || at > furthest) furthest = at, expected.clear(), detail.clear();
    if (std::find(expected.begin(), expected.end(), what) == expected.end()) expected.push_back(what);
    if (!more.empty()) detail = std::move(more);
  }
  void keep(std::int16_t slot, const char* from, const char* to) {
    if (slot >= 0) taken.push_back({slot, values_[static_cast<std::size_t>(slot)], from, to});
  }
  bool spent() { return state_.too_expensive |= state_.work > state_.limit; }

  const char* run(std::uint32_t first, std::uint32_t last, const char* at);
  const char* element(std::uint32_t i, const char* at);

  const Template& t_;
  const Program& p_;
  std::string_view line_;
  Arena arena_;
  MatchContext context_;
  std::vector<Value> values_;
  MatchState state_;
  int depth_ = 0;
};

const char* Explainer::run(std::uint32_t first, std::uint32_t last, const char* at) {
  ++depth_;
  for (std::uint32_t i = first; i < last && at != nullptr; i = p_.elements[i].next) {
    if (depth_ == 1) reached = i, reached_at = at;
    at = element(i, at);
  }
  --depth_;
  return at;
}

const char* Explainer::element(std::uint32_t i, const char* at) {
  using Op = Element::Op;
  const Element& e = p_.elements[i];
  const char* end = state_.end;
  Value scratch;
  Value& out = e.slot >= 0 ? values_[static_cast<std::size_t>(e.slot)] : scratch;
  const char* p = nullptr;
  switch (e.op) {
    case Op::literal: {
      const std::string& literal = p_.literals[e.operand];
      if (starts_with(at, end, literal)) return at + literal.size();
      std::size_t n = 0;  // point at the first byte that differs
      while (at + n != end && at[n] == literal[n]) ++n;
      failed(at + n, shown(std::string_view(literal).substr(n)));
      return nullptr;
    }
    case Op::any_case: {
      const std::string& literal = p_.literals[e.operand];
      if (starts_with_any_case(at, end, literal)) return at + literal.size();
      failed(at, shown(literal) + " in any case");
      return nullptr;
    }
    case Op::lexeme: {
      const LexemeUse& use = p_.lexemes[e.operand];
      p = use.scan(at, end, state_.context, use.settings.get(), out);
      if (p == nullptr || !use.within(out)) {
        failed(at, use.description, take_time_problem());
        return nullptr;
      }
      break;
    }
    case Op::text: {
      const TextScan& scan = p_.texts[e.operand];
      p = text_end(scan, at, end);
      if (p == nullptr) {
        const char* bad = at;
        while (bad != end && scan.flags[static_cast<unsigned char>(*bad)] & 1) ++bad;
        failed(bad, scan.description);
        return nullptr;
      }
      out = Value::text({at, static_cast<std::size_t>(p - at)});
      state_.work += static_cast<std::size_t>(p - at);
      break;
    }
    case Op::rest:
      p = end;
      out = Value::text({at, static_cast<std::size_t>(end - at)});
      break;
    case Op::regex: {
      const RegexUse& use = p_.regexes[e.operand];
      std::size_t from = 0, to = 0;
      const auto outcome = use.regex.match({at, static_cast<std::size_t>(end - at)}, &from, &to);
      state_.too_expensive |= outcome == Regex::Outcome::too_expensive;
      if (outcome == Regex::Outcome::match) out = convert_text({at, to}, use.kind, state_.context);
      if (outcome != Regex::Outcome::match || out.absent()) {
        failed(at, use.description);
        return nullptr;
      }
      p = at + to;
      break;
    }
    case Op::blanks:
      p = at;
      while (p != end && (*p == ' ' || *p == '\t')) ++p;
      if (p != at) return p;
      failed(at, "a blank");
      return nullptr;
    case Op::fields: {
      const FieldsUse& use = p_.fields[e.operand];
      p = run_fields(use, at, state_, &out);
      if (p == nullptr) {
        const FieldScan::Failure why = use.scan->why(at, end, state_.context);
        failed(why.at, why.expected.empty() ? use.description : why.expected);
        return nullptr;
      }
      for (std::int16_t slot : use.slots) {
        if (slot < 0 || values_[static_cast<std::size_t>(slot)].absent()) continue;
        const Value& v = values_[static_cast<std::size_t>(slot)];
        const bool within = v.is_textual() && v.as_text().data() >= at && v.as_text().data() <= p;
        keep(slot, within ? v.as_text().data() : at, within ? v.as_text().data() + v.as_text().size() : at);
      }
      break;
    }
    case Op::optional: {
      const ElementRange inner = p_.branches[e.operand][0];
      const std::size_t before = taken.size();
      p = run(inner.first, inner.last, at);
      if (p != nullptr) return p;
      if (spent()) return nullptr;
      p_.clear(inner, values_.data());
      taken.resize(before, {});
      return at;
    }
    case Op::choice:
      for (const ElementRange& branch : p_.branches[e.operand]) {
        const std::size_t before = taken.size();
        p = run(branch.first, branch.last, at);
        if (p != nullptr) return p;
        if (spent()) return nullptr;
        p_.clear(branch, values_.data());
        taken.resize(before, {});
      }
      return nullptr;
    case Op::span:
      p = run(i + 1, e.next, at);
      if (p == nullptr) return nullptr;
      out = Value::text({at, static_cast<std::size_t>(p - at)});
      break;
  }
  keep(e.slot, at, p);
  return p;
}

Mismatch Template::explain(std::string_view line, const MatchContext& context) const {
  Explainer e(*this, line, context);
  e.all();
  Mismatch result;
  result.expected = std::move(e.expected);
  result.detail = std::move(e.detail);
  result.too_expensive = e.too_expensive();
  result.offset = e.furthest ? static_cast<std::size_t>(e.furthest - e.begin()) : 0;
  result.found = std::string(beginning(line.substr(std::min(result.offset, line.size()))));
  for (const Explainer::Taken& t : e.taken) {
    // Decoded texts lie in an arena of the explainer's own, unless the caller has one.
    const bool own = context.arena == nullptr && t.value.is_textual();
    result.so_far.emplace_back(slots_[static_cast<std::size_t>(t.slot)].name,
                               own ? Value::from_text(t.value.kind() == Kind::ip ? Kind::ip : Kind::text,
                                                      {t.from, static_cast<std::size_t>(t.to - t.from)})
                                   : t.value);
  }
  return result;
}

std::vector<std::pair<std::size_t, std::size_t>> Template::places(std::string_view line,
                                                                  const MatchContext& context) const {
  Explainer e(*this, line, context);
  e.all();
  std::vector<std::pair<std::size_t, std::size_t>> all(slots_.size());
  for (const Explainer::Taken& t : e.taken)
    all[static_cast<std::size_t>(t.slot)] = {static_cast<std::size_t>(t.from - e.begin()),
                                             static_cast<std::size_t>(t.to - t.from)};
  return all;
}

Advice Template::advise(std::string_view line, const MatchContext& context,
                        const PatternLibrary& library) const {
  Advice advice;
  Explainer first(*this, line, context);
  first.all();
  if (first.too_expensive() || first.reached_at == nullptr || first.furthest == nullptr) return advice;
  const std::uint32_t at_element = first.reached;
  const Element& failing = program_.elements[at_element];
  const bool at_end = first.furthest == first.end();
  const char* at = first.reached_at;
  advice.element = text_.substr(failing.offset, failing.length);
  const bool literal = failing.op == Element::Op::literal || failing.op == Element::Op::any_case ||
                       failing.op == Element::Op::blanks;
  // A literal that is missing: what stands there may be text that the template does not foresee.
  const std::uint32_t go_on = literal ? at_element : failing.next;
  const std::uint32_t size = first.size();
  auto rest = [&](const char* from) { return Explainer(*this, line, context).rest_matches(go_on, from); };
  const char* behind_blanks = first.furthest;
  while (behind_blanks != first.end() && (*behind_blanks == ' ' || *behind_blanks == '\t')) ++behind_blanks;
  if (failing.op == Element::Op::literal && behind_blanks != first.furthest) {
    const std::string& wanted = program_.literals[failing.operand];
    auto done = static_cast<std::size_t>(first.furthest - at);
    if (done < wanted.size() && wanted[done] == ' ') ++done;  // a tab instead of a blank
    advice.blanks =
        done > 0 && done <= wanted.size() && wanted[done - 1] == ' ' &&
        starts_with(behind_blanks, first.end(), std::string_view(wanted).substr(done)) &&
        Explainer(*this, line, context).rest_matches(failing.next, behind_blanks + (wanted.size() - done));
  } else if (!literal && behind_blanks != at && first.furthest == at && at != first.begin() &&
             at[-1] == ' ') {
    advice.blanks = Explainer(*this, line, context).rest_matches(at_element, behind_blanks);
  }
  if (advice.blanks) return advice;
  // Where a text that is put there could end.
  const char* stop = first.end();
  if (go_on < size && program_.elements[go_on].op == Element::Op::literal) {
    const std::string& next = program_.literals[program_.elements[go_on].operand];
    stop = std::search(at, first.end(), next.begin(), next.end());
  }
  constexpr int kMostTries = 200;
  int tries = 0;
  if (!at_end && !(literal && at != first.furthest))  // "here" is where it failed
    for (const Pattern* pattern : library.in_order()) {
      if (pattern->name == "rest" || pattern->name == "line" || pattern->name == "text" ||
          ++tries > kMostTries)
        continue;
      const char* p = nullptr;
      Value value;
      Arena arena;
      MatchContext own = context;
      own.arena = &arena;
      own.found = nullptr;
      if (pattern->form == PatternForm::lexeme) {
        p = pattern->lexeme->scan(at, first.end(), own, nullptr, value);
      } else if (pattern->form == PatternForm::text && !pattern->bytes.has(' ')) {
        for (p = at; p != stop && pattern->bytes.has(static_cast<unsigned char>(*p));) ++p;
        if (static_cast<std::size_t>(p - at) < std::max<std::size_t>(1, pattern->at_least)) p = nullptr;
      } else if (pattern->form == PatternForm::regex) {
        auto regex = Regex::compile(pattern->source, Regex::Where::anchored);
        std::size_t from = 0, to = 0;
        if (regex && regex->match({at, static_cast<std::size_t>(first.end() - at)}, &from, &to) ==
                         Regex::Outcome::match)
          p = at + to;
      }
      if (p == nullptr || p == at) continue;
      advice.others.push_back(
          {pattern->name, std::string(beginning({at, static_cast<std::size_t>(p - at)}, 60)), rest(p)});
    }
  // Best first: with which the rest matches; then typed patterns before texts, longer before shorter.
  std::stable_sort(advice.others.begin(), advice.others.end(),
                   [&](const Advice::Other& a, const Advice::Other& b) {
                     if (a.rest_matches != b.rest_matches) return a.rest_matches;
                     auto typed = [&](const Advice::Other& o) {
                       return library.find(o.pattern)->form == PatternForm::lexeme;
                     };
                     if (typed(a) != typed(b)) return typed(a);
                     return a.text.size() > b.text.size();
                   });
  if (advice.others.size() > 5) advice.others.resize(5);
  tries = 0;
  for (const char* p = at; p <= first.end() && tries < kMostTries; ++p) {
    if (literal && p == at) continue;
    if (go_on < size && program_.elements[go_on].op == Element::Op::literal &&
        !starts_with(p, first.end(), program_.literals[program_.elements[go_on].operand]))
      continue;
    ++tries;
    if (!rest(p)) continue;
    advice.skipping_helps = true;
    advice.skipped = std::string(beginning({at, static_cast<std::size_t>(p - at)}, 60));
    break;
  }
  if (!advice.skipping_helps && literal)  // or the literal itself is too much
    advice.skipping_helps = Explainer(*this, line, context).rest_matches(failing.next, at);
  return advice;
}

std::vector<Described> Template::describe() const {
  std::vector<Described> all;
  std::vector<std::uint32_t> ends;  // of the groups that are open
  for (std::uint32_t i = 0; i < program_.elements.size(); ++i) {
    while (!ends.empty() && ends.back() <= i) ends.pop_back();
    const Element& e = program_.elements[i];
    Described d;
    d.depth = ends.size();
    d.source = text_.substr(e.offset, e.length);
    if (e.op == Element::Op::literal) d.source = shown(program_.literals[e.operand]);
    auto ending = [&](const TextScan& scan) {
      std::string text;
      for (const EndLiteral& end : scan.ends)
        text += (text.empty() ? "" : ", ") + shown(end.text) + (end.any_case ? " in any case" : "");
      if (!scan.delimiters.empty()) text += text.empty() ? "a blank" : ", a blank";
      return text.empty() ? "ends where another byte stands" : "ends before " + text;
    };
    switch (e.op) {
      case Element::Op::literal:
        d.how = "literal text";
        d.why = std::to_string(program_.literals[e.operand].size()) +
                (program_.literals[e.operand].size() == 1 ? " byte" : " bytes, compared at once");
        break;
      case Element::Op::any_case:
        d.how = "literal text";
        d.why = "letters in either case";
        break;
      case Element::Op::lexeme: {
        const LexemeUse& use = program_.lexemes[e.operand];
        d.how = use.fast == LexemeUse::Fast::none ? "typed scanner" : "typed scanner, inlined";
        d.why = use.description;
        break;
      }
      case Element::Op::text: {
        const TextScan& scan = program_.texts[e.operand];
        d.how = scan.only_stop >= 0 ? "search for one byte" : "search for a class of bytes";
        d.why = scan.description + "; " + ending(scan);
        break;
      }
      case Element::Op::rest:
        d.how = "no search";
        d.why = "the rest of the line";
        break;
      case Element::Op::regex:
        d.how = "regex engine";
        d.why = "a regex: /" + program_.regexes[e.operand].regex.source() +
                "/; one call of the engine for each line, some 70 ns and more";
        break;
      case Element::Op::blanks:
        d.how = "typed scanner";
        d.why = "one or more blanks or tabs";
        break;
      case Element::Op::fields:
        d.how = "scanner with fields";
        d.why = program_.fields[e.operand].description;
        break;
      case Element::Op::optional:
        d.how = "optional part";
        d.why = "taken if it matches here, else skipped; never tried again";
        break;
      case Element::Op::choice:
        d.how = "alternatives";
        d.why =
            std::to_string(program_.branches[e.operand].size()) + ", the first that matches here is final";
        break;
      case Element::Op::span:
        d.how = "named template";
        d.why = "its elements follow";
        break;
    }
    all.push_back(std::move(d));
    if (e.op == Element::Op::optional || e.op == Element::Op::choice || e.op == Element::Op::span)
      ends.push_back(e.next);
  }
  return all;
}

}  // namespace dingle
