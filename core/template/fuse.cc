// Makes instructions of elements: each with the literal behind it as its tail, so that most elements are one step of the
// runner.
#include <cstring>

#include "core/template/program.h"

namespace dingle {
namespace {

using Code = Instruction::Code;
using Op = Element::Op;

Code code_of(const LexemeUse& use) {
  if (use.ranged) return Code::lexeme;
  switch (use.fast) {
    case LexemeUse::Fast::integer: return Code::integer;
    case LexemeUse::Fast::decimal: return Code::decimal;
    case LexemeUse::Fast::ip: return Code::ip;
    case LexemeUse::Fast::clf_time: return Code::clf_time;
    default: return Code::lexeme;
  }
}

// `behind`: the literal that follows, or nullptr.
Code code_of(const TextScan& scan, const std::string* behind) {
  if (scan.at_most != SIZE_MAX) return Code::text;
  if (scan.ends_by_class() && scan.at_least <= 1) return Code::run;
  const bool ends_at_one_literal = scan.ends.size() == 1 && !scan.ends[0].any_case;
  if (scan.only_stop >= 0 && scan.at_least == 0 && ends_at_one_literal && behind &&
      *behind == scan.ends[0].text)
    return Code::find;
  return Code::text;
}

class Fuser {
 public:
  explicit Fuser(Program& program) : p_(program) {}

  std::uint32_t fuse(std::uint32_t first, std::uint32_t last) {
    const std::uint32_t start = here();
    for (std::uint32_t i = first; i < last;) i = one(i, last);
    add(Code::done);
    follow_on_from(start);
    return start;
  }

 private:
  std::uint32_t here() const { return static_cast<std::uint32_t>(p_.code.size()); }
  std::uint32_t add(Code code) {
    p_.code.emplace_back().code = code;
    return here() - 1;
  }
  const std::string* literal_at(std::uint32_t element, std::uint32_t last) const {
    const bool is = element < last && p_.elements[element].op == Op::literal;
    return is ? &p_.literals[p_.elements[element].operand] : nullptr;
  }

  // The element `i` and the literal behind it; the first element behind both.
  std::uint32_t one(std::uint32_t i, std::uint32_t last) {
    const Element e = p_.elements[i];
    if (const std::string* literal = literal_at(i, last)) {
      const std::uint32_t at = add(Code::nothing);
      p_.code[at].element = i;
      carry(at, *literal);
      return e.next;
    }
    const std::string* behind = literal_at(e.next, last);
    const std::uint32_t at = add(code_of(e, behind));
    p_.code[at].operand = e.operand;
    p_.code[at].element = i;
    p_.code[at].slot = e.slot >= 0 ? e.slot : static_cast<std::int16_t>(p_.slots);
    parts(i, e);
    p_.code[at].next = here();
    if (!behind) return e.next;
    carry(at, *literal_at(e.next, last));  // where it is now: the list may have grown
    return p_.elements[e.next].next;
  }

  Code code_of(const Element& e, const std::string* behind) const {
    switch (e.op) {
      case Op::literal: return Code::literal;
      case Op::any_case: return Code::any_case;
      case Op::lexeme: return dingle::code_of(p_.lexemes[e.operand]);
      case Op::text: return dingle::code_of(p_.texts[e.operand], behind);
      case Op::rest: return Code::rest;
      case Op::regex: return Code::regex;
      case Op::blanks: return Code::blanks;
      case Op::fields: return Code::fields;
      case Op::optional: return Code::optional;
      case Op::choice: return Code::choice;
      case Op::span: return Code::span;
    }
    return Code::done;
  }

  // What lies within an element stands behind its instruction.
  void parts(std::uint32_t i, const Element& e) {
    if (e.op == Op::span) fuse(i + 1, e.next);
    if (e.op != Op::optional && e.op != Op::choice) return;
    std::vector<std::uint32_t> starts;
    for (const ElementRange branch : p_.branches[e.operand])
      starts.push_back(fuse(branch.first, branch.last));
    if (p_.branch_starts.size() <= e.operand) p_.branch_starts.resize(e.operand + 1);
    p_.branch_starts[e.operand] = std::move(starts);
  }

  // The literal as the tail of the instruction `to`; what does not fit becomes an instruction of its own.
  void carry(std::uint32_t to, const std::string& literal) {
    Instruction& in = p_.code[to];
    const std::size_t n = std::min(sizeof in.tail, literal.size());
    in.tail_length = static_cast<std::uint8_t>(n);
    std::memcpy(&in.tail, literal.data(), n);
    in.mask = n == sizeof in.tail ? ~std::uint64_t{0} : (std::uint64_t{1} << (8 * n)) - 1;
    if (literal.size() == n) return;
    std::string more = literal.substr(n);  // `literal` lies in the list that grows
    p_.literals.push_back(std::move(more));
    p_.code[add(Code::literal)].operand = static_cast<std::uint32_t>(p_.literals.size() - 1);
  }

  // Where nothing else was said, an instruction is followed by its neighbour.
  void follow_on_from(std::uint32_t start) {
    for (std::uint32_t k = start; k < here(); ++k)
      if (p_.code[k].next == 0) p_.code[k].next = k + 1;
  }

  Program& p_;
};

}  // namespace

std::uint32_t Program::fuse(std::uint32_t first, std::uint32_t last) {
  return Fuser(*this).fuse(first, last);
}

}  // namespace dingle
