#include "core/template/program.h"

#include <algorithm>
#include <cstring>

#include "core/template/matcher.h"

namespace dingle {

void TextScan::prepare(const ByteClass& bytes) {
  std::fill(std::begin(low), std::end(low), std::uint8_t{0});
  std::fill(std::begin(high), std::end(high), std::uint8_t{0});
  // An end whose first byte is not of the class needs no look: the text stops there anyway.
  std::erase_if(ends, [&](const EndLiteral& e) {
    auto c = static_cast<unsigned char>(e.text[0]);
    return !bytes.has(c) && !(e.any_case && c >= 'a' && c <= 'z' && bytes.has(c - 0x20u));
  });
  delimiters = delimiters & bytes;
  is_short = !bytes.has('/') && !bytes.has(' ');
  if (ends.size() == 1)
    for (std::size_t k = 1; k < std::min<std::size_t>(8, ends[0].text.size()); ++k)
      if (ends[0].text[k] != ends[0].text[0]) other_byte = static_cast<std::uint32_t>(k);
  int stops = 0;
  for (unsigned b = 0; b < 256; ++b) {
    const auto c = static_cast<unsigned char>(b);
    const bool end_here =
        delimiters.has(c) || std::any_of(ends.begin(), ends.end(), [&](const EndLiteral& e) {
          const auto first = static_cast<unsigned char>(e.text[0]);
          return first == c || (e.any_case && first >= 'a' && first <= 'z' && first - 0x20u == c);
        });
    flags[b] = static_cast<std::uint8_t>((bytes.has(c) ? 1 : 0) | (end_here ? 2 : 0));
    if (flags[b] == 1) continue;
    only_stop = static_cast<std::int16_t>(++stops == 1 ? static_cast<int>(b) : -1);
    (b < 0x80 ? low : high)[b & 15] |= static_cast<std::uint8_t>(1u << ((b >> 4) & 7));
  }
}

std::span<const NamedRunner> runners() {
  static const std::vector<NamedRunner> all = [] {
    std::vector<NamedRunner> found;
#if defined(__x86_64__)
    __builtin_cpu_init();
    if (__builtin_cpu_supports("avx2") && __builtin_cpu_supports("bmi2") && __builtin_cpu_supports("popcnt"))
      found.push_back({"avx2", avx2_runner, true});
#endif
    found.push_back({"portable", portable_runner, false});
    return found;
  }();
  return all;
}

bool starts_with(const char* at, const char* end, std::string_view literal) {
  return static_cast<std::size_t>(end - at) >= literal.size() &&
         std::memcmp(at, literal.data(), literal.size()) == 0;
}

bool starts_with_any_case(const char* at, const char* end, std::string_view lower) {
  if (static_cast<std::size_t>(end - at) < lower.size()) return false;
  for (std::size_t i = 0; i < lower.size(); ++i) {
    const auto c = static_cast<unsigned char>(at[i]);
    if ((c >= 'A' && c <= 'Z' ? static_cast<char>(c | 0x20) : at[i]) != lower[i]) return false;
  }
  return true;
}

const char* text_end(const TextScan& scan, const char* at, const char* end) {
  const char* last = static_cast<std::size_t>(end - at) > scan.at_most ? at + scan.at_most : end;
  const char* p = at;
  for (std::size_t i = 0; i < scan.at_least; ++i, ++p)
    if (p == last || !(scan.flags[static_cast<unsigned char>(*p)] & 1)) return nullptr;
  for (; p != last; ++p) {
    const std::uint8_t flags = scan.flags[static_cast<unsigned char>(*p)];
    if (flags == 1) continue;
    if (!(flags & 1) || scan.delimiters.has(static_cast<unsigned char>(*p))) return p;
    for (const EndLiteral& e : scan.ends)
      if (e.any_case ? starts_with_any_case(p, end, e.text) : starts_with(p, end, e.text)) return p;
  }
  return p;
}

void Program::clear(ElementRange range, Value* values) const {
  for (std::uint32_t i = range.first; i < range.last; ++i) {
    if (elements[i].slot >= 0) values[elements[i].slot] = Value();
    if (elements[i].op == Element::Op::fields)
      for (std::int16_t slot : fields[elements[i].operand].slots)
        if (slot >= 0) values[slot] = Value();
  }
}

std::uint32_t Program::fuse(std::uint32_t first, std::uint32_t last) {
  using Code = Instruction::Code;
  const auto start = static_cast<std::uint32_t>(code.size());
  // The literal at element `i`, as the tail of the instruction `to`; what does not fit becomes one of its
  // own.
  auto carry = [&](std::size_t to, std::uint32_t i) {
    const std::string& literal = literals[elements[i].operand];
    const std::size_t n = std::min<std::size_t>(8, literal.size());
    Instruction& in = code[to];
    in.tail_length = static_cast<std::uint8_t>(n);
    std::memcpy(&in.tail, literal.data(), n);
    in.mask = n == 8 ? ~std::uint64_t{0} : (std::uint64_t{1} << (8 * n)) - 1;
    if (literal.size() <= 8) return;
    Instruction more;
    more.code = Code::literal;
    literals.push_back(literal.substr(8));
    more.operand = static_cast<std::uint32_t>(literals.size() - 1);
    code.push_back(more);
  };
  for (std::uint32_t i = first; i < last;) {
    const Element e = elements[i];
    const std::size_t at = code.size();
    code.emplace_back();
    Instruction in;
    in.slot = e.slot >= 0 ? e.slot : static_cast<std::int16_t>(slots);
    in.operand = e.operand;
    switch (e.op) {
      case Element::Op::literal: {
        carry(at, i);
        i = e.next;
        continue;
      }
      case Element::Op::any_case: in.code = Code::any_case; break;
      case Element::Op::lexeme: {
        const LexemeUse& use = lexemes[e.operand];
        in.code = use.ranged                              ? Code::lexeme
                  : use.fast == LexemeUse::Fast::integer  ? Code::integer
                  : use.fast == LexemeUse::Fast::decimal  ? Code::decimal
                  : use.fast == LexemeUse::Fast::ip       ? Code::ip
                  : use.fast == LexemeUse::Fast::clf_time ? Code::clf_time
                                                          : Code::lexeme;
        break;
      }
      case Element::Op::text: {
        const TextScan& scan = texts[e.operand];
        const bool plain = scan.at_most == SIZE_MAX;
        in.code = plain && scan.ends_by_class() && scan.at_least <= 1 ? Code::run
                  : plain && scan.only_stop >= 0 && scan.at_least == 0 && scan.ends.size() == 1 &&
                          !scan.ends[0].any_case
                      ? Code::find
                      : Code::text;
        break;
      }
      case Element::Op::rest: in.code = Code::rest; break;
      case Element::Op::regex: in.code = Code::regex; break;
      case Element::Op::blanks: in.code = Code::blanks; break;
      case Element::Op::fields: in.code = Code::fields; break;
      case Element::Op::span: in.code = Code::span; break;
      case Element::Op::optional: in.code = Code::optional; break;
      case Element::Op::choice: in.code = Code::choice; break;
    }
    code[at] = in;
    if (e.op == Element::Op::optional || e.op == Element::Op::choice) {
      std::vector<std::uint32_t> starts;
      for (ElementRange branch : std::vector<ElementRange>(branches[e.operand]))
        starts.push_back(fuse(branch.first, branch.last));
      if (branch_starts.size() <= e.operand) branch_starts.resize(e.operand + 1);
      branch_starts[e.operand] = std::move(starts);
    } else if (e.op == Element::Op::span) {
      fuse(i + 1, e.next);
    }
    const auto behind = static_cast<std::uint32_t>(code.size());
    i = e.next;
    if (i < last && elements[i].op == Element::Op::literal) {
      if (in.code == Code::find && literals[elements[i].operand] != texts[e.operand].ends[0].text)
        code[at].code = Code::text;
      carry(at, i);
      i = elements[i].next;
    } else if (in.code == Code::find) {
      code[at].code = Code::text;
    }
    code[at].next = behind;
  }
  Instruction done;
  done.code = Code::done;
  code.push_back(done);
  for (std::size_t k = start; k < code.size(); ++k)
    if (code[k].next == 0) code[k].next = static_cast<std::uint32_t>(k + 1);
  return start;
}

const char* run_fields(const FieldsUse& use, const char* at, MatchState& s, Value* whole) {
  MatchContext context = s.context;
  if (use.as_map) {
    context.found = nullptr;
    return use.scan->scan_whole(at, s.end, context, *whole);
  }
  thread_local std::vector<Value> columns(kMostFieldColumns);
  std::fill_n(columns.begin(), use.scan->columns().size(), Value());
  if (!use.brings_found) context.found = nullptr;
  const std::size_t before = context.found ? context.found->size() : 0;
  const char* p = use.scan->scan(at, s.end, context, use.prefix, columns.data());
  if (p == nullptr) {
    if (context.found) context.found->resize(before);
    return nullptr;
  }
  for (std::size_t i = 0; i < use.slots.size(); ++i)
    if (use.slots[i] >= 0) s.values[use.slots[i]] = columns[i];
  return p;
}

}  // namespace dingle
