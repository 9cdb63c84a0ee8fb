// Running a template's elements one by one, noting what happens: why a line failed, where the fields stand,
// what would help. Must agree with the runners of matcher.inl, which tests compare it with.
#include <algorithm>
#include <cstring>

#include "core/template/template.h"
#include "core/template/wording.h"
#include "core/time/formats.h"

namespace dingle {
class Explainer {
 public:
  struct Taken {
    std::int16_t slot;
    Value value;
    const char *from, *to;
  };
  Explainer(const Template& t, std::string_view line, const MatchContext& context, MatchFailure& to,
            bool keep = false)
      : t_(t),
        p_(t.program_),
        line_(line.data() ? line : std::string_view("", 0)),
        failure_(to),
        keep_(keep),
        state_(line_, with_arena(context), values()) {
    failure_.of = &t;
    failure_.offset = 0;
    failure_.expected.clear();
    failure_.detail.clear();
    failure_.too_expensive = false;
  }
  // The end of what matches from the first element on, or nullptr. Notes whether it is the line's end.
  const char* all() {
    take_time_problem();
    const char* p = run(0, size(), line_.data());
    if (p != nullptr && p != state_.end && !t_.open_end_) failed(p, MatchFailure::kEnd);
    return p;
  }
  // The same for a straight template, whose runner stopped at that element; the end of what matches, if it did not.
  void from_stop(std::uint32_t stopped, const char* at) {
    take_time_problem();
    run(stopped, size(), at);
  }
  void behind_end(const char* end) { failed(end, MatchFailure::kEnd); }
  // Whether the elements from `first` on match from `at` to the line's end.
  bool rest_matches(std::uint32_t first, const char* at) {
    const char* p = run(first, size(), at);
    return p != nullptr && (p == state_.end || t_.open_end_);
  }
  std::uint32_t size() const { return static_cast<std::uint32_t>(p_.elements.size()); }

  // What explaining collects, besides the failure itself.
  const char* furthest = nullptr;
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
  Value* values() {
    failure_.values_.assign(t_.slots_.size(), Value());
    return failure_.values_.data();
  }
  void failed(const char* at, std::uint32_t element, std::size_t skip = 0, std::string said = "",
              std::string detail = "") {
    if (furthest != nullptr && at < furthest) return;
    if (furthest == nullptr || at > furthest) {
      furthest = at;
      failure_.offset = static_cast<std::size_t>(at - line_.data());
      failure_.expected.clear();
      failure_.detail.clear();
    }
    MatchFailure::Expected what{element, static_cast<std::uint32_t>(skip), std::move(said)};
    if (std::find(failure_.expected.begin(), failure_.expected.end(), what) == failure_.expected.end())
      failure_.expected.push_back(std::move(what));
    if (!detail.empty()) failure_.detail = std::move(detail);
  }
  void keep(std::int16_t slot, const char* from, const char* to) {
    if (keep_ && slot >= 0)
      taken.push_back({slot, failure_.values_[static_cast<std::size_t>(slot)], from, to});
  }
  bool spent() { return state_.too_expensive |= state_.work > state_.limit; }

  const char* run(std::uint32_t first, std::uint32_t last, const char* at);
  const char* element(std::uint32_t i, const char* at);

  const Template& t_;
  const Program& p_;
  std::string_view line_;
  Arena arena_;
  MatchContext context_;
  MatchFailure& failure_;
  const bool keep_;
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
  Value& out = e.slot >= 0 ? failure_.values_[static_cast<std::size_t>(e.slot)] : scratch;
  const char* p = nullptr;
  switch (e.op) {
    case Op::literal: {
      const std::string& literal = p_.literals[e.operand];
      if (starts_with(at, end, literal)) return at + literal.size();
      std::size_t n = 0;  // point at the first byte that differs
      while (at + n != end && at[n] == literal[n]) ++n;
      failed(at + n, i, n);
      return nullptr;
    }
    case Op::any_case: {
      const std::string& literal = p_.literals[e.operand];
      if (starts_with_any_case(at, end, literal)) return at + literal.size();
      failed(at, i);
      return nullptr;
    }
    case Op::lexeme: {
      const LexemeUse& use = p_.lexemes[e.operand];
      p = use.scan(at, end, state_.context, use.settings.get(), out);
      if (p == nullptr || !use.within(out)) {
        failed(at, i, 0, "", take_time_problem());
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
        failed(bad, i);
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
        failed(at, i);
        return nullptr;
      }
      for (const auto& [number, slot] : use.groups) {
        const auto [begins, ends] = Regex::group(number);
        if (begins >= ends || ends > to) continue;
        failure_.values_[static_cast<std::size_t>(slot)] = Value::text({at + begins, ends - begins});
        keep(slot, at + begins, at + ends);
      }
      p = at + to;
      break;
    }
    case Op::blanks:
      p = at;
      while (p != end && (*p == ' ' || *p == '\t')) ++p;
      if (p != at) return p;
      failed(at, i);
      return nullptr;
    case Op::fields: {
      const FieldsUse& use = p_.fields[e.operand];
      p = run_fields(use, at, state_, &out);
      if (p == nullptr) {
        FieldScan::Failure why = use.scan->why(at, end, state_.context);
        failed(why.at, i, 0, std::move(why.expected));
        return nullptr;
      }
      for (std::int16_t slot : use.slots) {
        if (slot < 0 || failure_.values_[static_cast<std::size_t>(slot)].absent()) continue;
        const Value& v = failure_.values_[static_cast<std::size_t>(slot)];
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
      p_.clear(inner, failure_.values_.data());
      taken.resize(before, {});
      return at;
    }
    case Op::choice:
      for (const ElementRange& branch : p_.branches[e.operand]) {
        const std::size_t before = taken.size();
        p = run(branch.first, branch.last, at);
        if (p != nullptr) return p;
        if (spent()) return nullptr;
        p_.clear(branch, failure_.values_.data());
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

void Template::locate(std::string_view line, const MatchContext& context, MatchFailure& to) const {
  Explainer e(*this, line, context, to);
  if (!program_.is_straight()) {
    e.all();
  } else {  // the quick runner passes over what matches
    MatchContext without_found = context;
    without_found.found = nullptr;
    to.line_values_.resize(value_count());
    MatchState state(line, without_found, to.line_values_.data());
    const char* p = runner_for(line, context).run(program_, 0, line.data(), state);
    const bool known = state.stopped != nullptr && state.stopped->element != Instruction::kNoElement;
    if (p != nullptr)
      e.behind_end(p);
    else if (known)
      e.from_stop(state.stopped->element, state.stopped_at);
    else
      e.all();
  }
  to.too_expensive = e.too_expensive();
}

Mismatch Template::explain(std::string_view line, const MatchContext& context) const {
  MatchFailure failure;
  Explainer e(*this, line, context, failure, true);
  e.all();
  Mismatch result;
  result.expected = expected_words(failure);
  result.detail = std::move(failure.detail);
  result.too_expensive = e.too_expensive();
  result.offset = failure.offset;
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
  MatchFailure failure;
  Explainer e(*this, line, context, failure, true);
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
  MatchFailure failure, of_rest;
  Explainer first(*this, line, context, failure);
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
  auto rest = [&](const char* from) {
    return Explainer(*this, line, context, of_rest).rest_matches(go_on, from);
  };
  const char* behind_blanks = first.furthest;
  while (behind_blanks != first.end() && (*behind_blanks == ' ' || *behind_blanks == '\t')) ++behind_blanks;
  if (failing.op == Element::Op::literal && behind_blanks != first.furthest) {
    const std::string& wanted = program_.literals[failing.operand];
    auto done = static_cast<std::size_t>(first.furthest - at);
    if (done < wanted.size() && wanted[done] == ' ') ++done;  // a tab instead of a blank
    advice.blanks = done > 0 && done <= wanted.size() && wanted[done - 1] == ' ' &&
                    starts_with(behind_blanks, first.end(), std::string_view(wanted).substr(done)) &&
                    Explainer(*this, line, context, of_rest)
                        .rest_matches(failing.next, behind_blanks + (wanted.size() - done));
  } else if (!literal && behind_blanks != at && first.furthest == at && at != first.begin() &&
             at[-1] == ' ') {
    advice.blanks = Explainer(*this, line, context, of_rest).rest_matches(at_element, behind_blanks);
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
    advice.skipping_helps = Explainer(*this, line, context, of_rest).rest_matches(failing.next, at);
  return advice;
}

}  // namespace dingle
