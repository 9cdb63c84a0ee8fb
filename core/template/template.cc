#include "core/template/template.h"

#include <algorithm>
#include <cstring>

#include "core/json_text.h"
#include "core/template/compiler.h"

namespace dingle {

// What explaining collects: the furthest failure and what was expected there.
struct Template::Notes {
  const char* furthest = nullptr;
  std::vector<std::string> expected;
  struct Taken {
    std::int16_t slot;
    Value value;
    const char *from, *to;
  };
  std::vector<Taken> taken;
  bool too_expensive = false;
  void failed(const char* at, const std::string& what) {
    if (furthest != nullptr && at < furthest) return;
    if (furthest == nullptr || at > furthest) furthest = at, expected.clear();
    if (std::find(expected.begin(), expected.end(), what) == expected.end()) expected.push_back(what);
  }
};

namespace {

std::string shown(std::string_view text) {
  std::string out = valid_utf8(text);
  std::string quoted;
  for (char c : out) {
    if (c == '\n')
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

// Up to 24 bytes, not cut within a UTF-8 character.
std::string_view beginning(std::string_view text) {
  std::size_t n = std::min<std::size_t>(text.size(), 24);
  while (n < text.size() && n > 20 && (static_cast<unsigned char>(text[n]) & 0xC0) == 0x80) --n;
  return text.substr(0, n);
}

}  // namespace

std::string Mismatch::sentence() const {
  std::string text = "column " + std::to_string(offset + 1) + ": expected ";
  for (std::size_t i = 0; i < expected.size(); ++i)
    text += (i == 0 ? "" : i + 1 == expected.size() ? " or " : ", ") + expected[i];
  text += found.empty() ? ", found the end of the line" : ", found " + shown(found);
  return too_expensive ? text + " (too expensive)" : text;
}

std::shared_ptr<const Template> Template::compile(std::string_view text, const PatternLibrary& library,
                                                  TemplateOptions options, std::vector<Problem>& problems) {
  const std::size_t before = problems.size();
  auto result = std::make_shared<Template>();
  result->text_ = std::string(text);
  std::vector<Part> parts = parse_template(text, problems);
  if (parts.empty() && problems.size() == before)
    problems.push_back({"the template is empty", "write {body} to take the whole line", 0, 0});
  TemplateCompiler(*result, library, problems).compile(parts, options.open_end);
  if (problems.size() != before) return nullptr;
  return result;
}

namespace {

// Short literals are the rule; a call to memcmp would cost more than they do.
inline bool starts_with(const char* at, const char* end, const std::string& literal) {
  const std::size_t n = literal.size();
  if (static_cast<std::size_t>(end - at) < n) return false;
  for (std::size_t i = 0; i < n; ++i) {
    if (i == 8) return std::memcmp(at + 8, literal.data() + 8, n - 8) == 0;
    if (at[i] != literal[i]) return false;
  }
  return true;
}

}  // namespace

const char* Template::scan_text(const TextScan& scan, const char* at, const char* end) {
  if (!scan.single.empty()) {
    for (const char* p = at; p != end; ++p) {
      p = static_cast<const char*>(std::memchr(p, scan.single[0], static_cast<std::size_t>(end - p)));
      if (p == nullptr) return end;
      if (starts_with(p, end, scan.single)) return p;
    }
    return end;
  }
  const char* p = at;
  for (std::size_t i = 0; i < scan.at_least; ++i, ++p)
    if (p == end || !(scan.flags[static_cast<unsigned char>(*p)] & 1)) return nullptr;
  for (;; ++p) {
    while (end - p >= 4 && scan.flags[static_cast<unsigned char>(p[0])] == 1 &&
           scan.flags[static_cast<unsigned char>(p[1])] == 1 &&
           scan.flags[static_cast<unsigned char>(p[2])] == 1 &&
           scan.flags[static_cast<unsigned char>(p[3])] == 1)
      p += 4;
    if (p == end) return p;
    const std::uint8_t flags = scan.flags[static_cast<unsigned char>(*p)];
    if (flags == 1) continue;
    if (!(flags & 1)) return p;
    if (scan.delimiters.has(static_cast<unsigned char>(*p))) return p;
    for (const std::string& literal : scan.literals)
      if (starts_with(p, end, literal)) return p;
  }
}

void Template::clear(Range range, Value* values) const {
  for (std::uint32_t i = range.first; i < range.last; ++i)
    if (elements_[i].slot >= 0) values[elements_[i].slot] = Value();
}

// Runs the elements [first, last) from `at`. Answers where they end, or nullptr.
template <bool Explaining>
const char* Template::run(std::uint32_t first, std::uint32_t last, const char* at, const char* end,
                          const MatchContext& context, Value* values, Notes* notes) const {
  for (std::uint32_t i = first; i < last;) {
    const Element& e = elements_[i];
    const char* p = nullptr;
    Value value;
    switch (e.op) {
      case Op::literal: {
        const std::string& literal = literals_[e.operand];
        if (starts_with(at, end, literal)) {
          p = at + literal.size();
        } else if constexpr (Explaining) {
          std::size_t n = 0;  // point at the first byte that differs
          while (at + n != end && at[n] == literal[n]) ++n;
          notes->failed(at + n, shown(std::string_view(literal).substr(n)));
        }
        break;
      }
      case Op::lexeme:
        p = lexemes_[e.operand].scan(at, end, context, value);
        if constexpr (Explaining)
          if (!p) notes->failed(at, lexemes_[e.operand].description);
        break;
      case Op::text:
        p = scan_text(texts_[e.operand], at, end);
        if (p) value = Value::text({at, static_cast<std::size_t>(p - at)});
        if constexpr (Explaining)
          if (!p) notes->failed(at, texts_[e.operand].description);
        break;
      case Op::rest:
        p = end;
        value = Value::text({at, static_cast<std::size_t>(end - at)});
        break;
      case Op::regex: {
        const RegexUse& use = regexes_[e.operand];
        std::size_t from = 0, to = 0;
        Regex::Outcome outcome = use.regex.match({at, static_cast<std::size_t>(end - at)}, &from, &to);
        if (outcome == Regex::Outcome::match) {
          value = convert_text({at, to}, use.kind, context);
          if (!value.absent()) p = at + to;
        }
        if constexpr (Explaining)
          if (!p) {
            notes->failed(at, use.description);
            notes->too_expensive |= outcome == Regex::Outcome::too_expensive;
          }
        break;
      }
      case Op::blanks:
        p = at;
        while (p != end && (*p == ' ' || *p == '\t')) ++p;
        if (p == at) p = nullptr;
        if constexpr (Explaining)
          if (!p) notes->failed(at, "a blank");
        break;
      case Op::optional: {
        const Range inner = branches_[e.operand][0];
        [[maybe_unused]] const std::size_t before = Explaining ? notes->taken.size() : 0;
        p = run<Explaining>(inner.first, inner.last, at, end, context, values, notes);
        if (!p) {
          if (has_optional_slots_) clear(inner, values);
          if constexpr (Explaining) notes->taken.resize(before, {});
          p = at;
        }
        break;
      }
      case Op::choice:
        for (const Range& branch : branches_[e.operand]) {
          [[maybe_unused]] const std::size_t before = Explaining ? notes->taken.size() : 0;
          p = run<Explaining>(branch.first, branch.last, at, end, context, values, notes);
          if (p) break;
          if (has_optional_slots_) clear(branch, values);
          if constexpr (Explaining) notes->taken.resize(before, {});
        }
        break;
      case Op::span:
        p = run<Explaining>(i + 1, e.next, at, end, context, values, notes);
        if (p) value = Value::text({at, static_cast<std::size_t>(p - at)});
        break;
    }
    if (p == nullptr) return nullptr;
    if (e.slot >= 0) {
      values[e.slot] = value;
      if constexpr (Explaining) notes->taken.push_back({e.slot, value, at, p});
    }
    at = p;
    i = e.next;
  }
  return at;
}

bool Template::match(std::string_view line, const MatchContext& context, Value* values) const {
  if (has_optional_slots_) std::fill_n(values, slots_.size(), Value());
  const char* begin = line.data();
  const char* end = begin + line.size();
  const char* p =
      run<false>(0, static_cast<std::uint32_t>(elements_.size()), begin, end, context, values, nullptr);
  return p != nullptr && (open_end_ || p == end);
}

Mismatch Template::explain(std::string_view line, const MatchContext& context) const {
  std::vector<Value> values(slots_.size());
  Notes notes;
  const char* begin = line.data() ? line.data() : "";
  const char* end = begin + line.size();
  const char* p =
      run<true>(0, static_cast<std::uint32_t>(elements_.size()), begin, end, context, values.data(), &notes);
  if (p != nullptr && p != end && !open_end_) notes.failed(p, "the end of the line");
  Mismatch result;
  result.expected = notes.expected;
  result.too_expensive = notes.too_expensive;
  result.offset = notes.furthest ? static_cast<std::size_t>(notes.furthest - begin) : 0;
  result.found = std::string(beginning(line.substr(std::min(result.offset, line.size()))));
  for (const Notes::Taken& t : notes.taken)
    result.so_far.emplace_back(slots_[static_cast<std::size_t>(t.slot)].name, t.value);
  return result;
}

std::vector<std::pair<std::size_t, std::size_t>> Template::places(std::string_view line,
                                                                  const MatchContext& context) const {
  std::vector<Value> values(slots_.size());
  Notes notes;
  const char* begin = line.data() ? line.data() : "";
  run<true>(0, static_cast<std::uint32_t>(elements_.size()), begin, begin + line.size(), context,
            values.data(), &notes);
  std::vector<std::pair<std::size_t, std::size_t>> all(slots_.size());
  for (const Notes::Taken& t : notes.taken)
    all[static_cast<std::size_t>(t.slot)] = {static_cast<std::size_t>(t.from - begin),
                                             static_cast<std::size_t>(t.to - t.from)};
  return all;
}

Value convert_text(std::string_view text, Kind kind, const MatchContext& context) {
  if (kind == Kind::text) return Value::text(text);
  const char* name = nullptr;
  switch (kind) {
    case Kind::integer: name = "int"; break;
    case Kind::decimal: name = "decimal"; break;
    case Kind::boolean: name = "boolean"; break;
    case Kind::timestamp: name = "time"; break;
    case Kind::ip: name = "ip"; break;
    default: return {};
  }
  for (const Lexeme& lexeme : builtin_lexemes())
    if (std::string_view(lexeme.name) == name) {
      Value value;
      const char* end = text.data() + text.size();
      return !text.empty() && lexeme.scan(text.data(), end, context, value) == end ? value : Value();
    }
  return {};
}

const std::vector<std::string>& kind_names() {
  static const std::vector<std::string> all{"text", "int", "decimal", "boolean", "timestamp", "ip"};
  return all;
}

Kind kind_named(std::string_view name) {
  for (Kind kind : {Kind::text, Kind::integer, Kind::decimal, Kind::boolean, Kind::timestamp, Kind::ip})
    if (kind_name(kind) == name) return kind;
  return Kind::absent;
}

}  // namespace dingle
