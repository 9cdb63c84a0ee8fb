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
    if (elements[i].op == Element::Op::regex)
      for (const auto& [number, slot] : regexes[elements[i].operand].groups) values[slot] = Value();
  }
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
