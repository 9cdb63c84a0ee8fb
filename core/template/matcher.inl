// The runner of instructions, compiled once for each kind of processor: matcher_avx2.cc and
// matcher_portable.cc include this file with DINGLE_WIDE set to 1 or 0. Everything in it is internal to them.
// The wide one loads up to kReadAhead bytes beyond the line's end, and is used where those may be read; the
// other reads nothing beyond it.

inline std::uint64_t load8(const char* p) {
  std::uint64_t v;
  std::memcpy(&v, p, 8);
  return v;
}

inline unsigned digit(char c) { return static_cast<unsigned char>(c) - unsigned{'0'}; }

#if DINGLE_WIDE
// Two loads at a time: most fields end within 64 bytes, and a loop whose length varies is mispredicted.
constexpr std::ptrdiff_t kWide = 64;
static_assert(kWide <= kReadAhead);

// One bit for each of 32 bytes that is a stop byte of a scan with these tables.
inline std::uint32_t stops_in(__m256i b, __m256i low, __m256i high) {
  const __m256i bits = _mm256_set1_epi64x(static_cast<long long>(0x8040201008040201ull));
  const __m256i upper = _mm256_and_si256(_mm256_srli_epi16(b, 4), _mm256_set1_epi8(0x0F));
  const __m256i of = _mm256_or_si256(_mm256_shuffle_epi8(low, b),
                                     _mm256_shuffle_epi8(high, _mm256_xor_si256(b, _mm256_set1_epi8(-128))));
  const __m256i mine = _mm256_shuffle_epi8(bits, upper);
  return static_cast<std::uint32_t>(
      _mm256_movemask_epi8(_mm256_cmpeq_epi8(_mm256_and_si256(of, mine), mine)));
}

inline __m256i load32(const char* p) { return _mm256_loadu_si256(reinterpret_cast<const __m256i*>(p)); }

// One bit for each of 64 bytes that is `c`.
inline std::uint64_t equals(const char* p, char c) {
  const __m256i all = _mm256_set1_epi8(c);
  const auto mask = [&](const char* at) {
    return static_cast<std::uint32_t>(_mm256_movemask_epi8(_mm256_cmpeq_epi8(load32(at), all)));
  };
  return mask(p) | std::uint64_t{mask(p + 32)} << 32;
}
#endif

// The first stop byte in [p, end), or `end`.
inline const char* next_stop(const TextScan& scan, const char* p, const char* end) {
#if DINGLE_WIDE
  const __m256i low = _mm256_broadcastsi128_si256(_mm_load_si128(reinterpret_cast<const __m128i*>(scan.low)));
  const __m256i high =
      _mm256_broadcastsi128_si256(_mm_load_si128(reinterpret_cast<const __m128i*>(scan.high)));
  if (scan.is_short)
    if (const std::uint32_t m = stops_in(load32(p), low, high)) [[likely]] {
      const char* q = p + __builtin_ctz(m);
      return q < end ? q : end;
    }
  for (;;) {
    const std::uint64_t m =
        stops_in(load32(p), low, high) | std::uint64_t{stops_in(load32(p + 32), low, high)} << 32;
    if (m != 0) [[likely]] {
      const char* q = p + __builtin_ctzll(m);
      return q < end ? q : end;
    }
    p += kWide;
    if (p >= end) return end;
  }
#else
  for (; end - p >= 4; p += 4) {
    if (scan.flags[static_cast<unsigned char>(p[0])] != 1) return p;
    if (scan.flags[static_cast<unsigned char>(p[1])] != 1) return p + 1;
    if (scan.flags[static_cast<unsigned char>(p[2])] != 1) return p + 2;
    if (scan.flags[static_cast<unsigned char>(p[3])] != 1) return p + 3;
  }
  while (p != end && scan.flags[static_cast<unsigned char>(*p)] == 1) ++p;
  return p;
#endif
}

#if !DINGLE_WIDE
// The first `c` in [p, end), or `end`.
inline const char* find_byte(char c, const char* p, const char* end) {
  const void* q = std::memchr(p, c, static_cast<std::size_t>(end - p));
  return q ? static_cast<const char*>(q) : end;
}
#endif

// The high bit of each of eight loaded bytes that is no digit.
inline std::uint64_t not_digits(std::uint64_t v) {
  const std::uint64_t x = v ^ 0x3030303030303030ull;
  return (((x & 0x7F7F7F7F7F7F7F7Full) + 0x7676767676767676ull) | x) & 0x8080808080808080ull;
}

// The number that the first n (1 to 8) of eight loaded digits make.
inline std::uint32_t number_of(std::uint64_t v, int n) {
  v <<= (8 - n) * 8;  // digits to the high end; what comes in from below is 0 after the mask
  v = (v & 0x0F0F0F0F0F0F0F0Full) * 2561 >> 8;
  v = (v & 0x00FF00FF00FF00FFull) * 6553601 >> 16;
  return static_cast<std::uint32_t>((v & 0x0000FFFF0000FFFFull) * 42949672960001ull >> 32);
}

constexpr double kTens[] = {1e0, 1e1, 1e2, 1e3, 1e4, 1e5, 1e6, 1e7, 1e8};

// Whole numbers of up to seven digits without a sign; nullptr leaves the others to the careful scanner.
inline const char* quick_integer(const char* at, const char* end, Value& out) {
#if !DINGLE_WIDE
  if (end - at < 8) return nullptr;
#endif
  const std::uint64_t v = load8(at);
  const std::uint64_t others = not_digits(v);
  if (others == 0) return nullptr;
  const int n = __builtin_ctzll(others) >> 3;
  if (n == 0 || n > end - at) return nullptr;
  out = Value::integer(number_of(v, n));
  return at + n;
}

// Numbers such as 200 and 3.25, of up to seven digits, without a sign or power.
inline const char* quick_decimal(const char* at, const char* end, Value& out) {
#if !DINGLE_WIDE
  if (end - at < 8) return nullptr;
#endif
  std::uint64_t v = load8(at);
  std::uint64_t others = not_digits(v);
  if (others == 0) return nullptr;
  int n = __builtin_ctzll(others) >> 3;
  if (n == 0 || n > end - at) return nullptr;
  if (n == end - at || at[n] != '.') {
    if (n != end - at && (at[n] | 0x20) == 'e') return nullptr;
    out = Value::decimal(number_of(v, n));
    return at + n;
  }
  others &= others - 1;
  if (others == 0) return nullptr;
  const int behind = __builtin_ctzll(others) >> 3;  // the byte behind the decimals
  const int m = behind - n - 1;
  if (m == 0 || behind > end - at || (behind != end - at && (at[behind] | 0x20) == 'e')) return nullptr;
  const std::uint64_t whole = (std::uint64_t{1} << (8 * n)) - 1;
  v = (v & whole) | (v >> 8 & ~whole);  // without the point
  // Digits and power of ten are exact in a double, so their quotient is the nearest one.
  out = Value::decimal(number_of(v, n + m) / kTens[m]);
  return at + behind;
}

// An IPv4 address; nullptr leaves everything else to the careful scanner.
inline const char* quick_ip([[maybe_unused]] const char* at, [[maybe_unused]] const char* end,
                            [[maybe_unused]] Value& out) {
#if DINGLE_WIDE
  const __m128i b = _mm_loadu_si128(reinterpret_cast<const __m128i*>(at));
  const __m128i x = _mm_sub_epi8(b, _mm_set1_epi8('0'));
  const auto bits = [](__m128i mask) { return static_cast<std::uint32_t>(_mm_movemask_epi8(mask)); };
  const auto is = [&](char v) { return bits(_mm_cmpeq_epi8(x, _mm_set1_epi8(v))); };
  const auto at_most = [&](char v) { return bits(_mm_cmpeq_epi8(_mm_min_epu8(x, _mm_set1_epi8(v)), x)); };
  std::uint32_t digits = at_most(9);
  std::uint32_t dots = is('.' - '0');
  const int length = __builtin_ctz(~(digits | dots) | 0x10000u);
  if (length > 15 || length > end - at) return nullptr;
  digits &= (1u << length) - 1;
  dots &= (1u << length) - 1;
  const std::uint32_t starts = digits & ~(digits << 1);
  const std::uint32_t three = starts & digits >> 1 & digits >> 2;
  const std::uint32_t below_256 = is(1) | (is(2) & (at_most(4) >> 1 | (is(5) >> 1 & at_most(5) >> 2)));
  const std::uint32_t bad = (digits & digits >> 1 & digits >> 2 & digits >> 3) |  // four digits in a row
                            (starts & is(0) & digits >> 1) |                      // a zero before others
                            (three & ~below_256);
  if (bad != 0 || __builtin_popcount(dots) != 3 || __builtin_popcount(starts) != 4) return nullptr;
  out = Value::from_text(Kind::ip, {at, static_cast<std::size_t>(length)});
  return at + length;
#else
  return nullptr;
#endif
}

// The last access-log time that this thread read: lines of a busy log share the second, or at least the day.
struct LastTime {
  char text[26] = {};
  std::int64_t instant = 0;
  std::int64_t midnight = 0;
};
thread_local LastTime last_time;

inline const char* quick_clf_time(const char* at, const char* end, Value& out) {
  constexpr std::ptrdiff_t kLength = 26;
  if (end - at < kLength) return nullptr;
  LastTime& last = last_time;
  const std::uint64_t day = (load8(at) ^ load8(last.text)) | (load8(at + 4) ^ load8(last.text + 4)) |
                            (load8(at + 18) ^ load8(last.text + 18)) >> 16;  // "23/Nov/2026:", " +0100"
  if (day == 0 && last.text[0] != '\0') {
    const std::uint64_t clock = load8(at + 12);
    if (clock == load8(last.text + 12)) {
      out = Value::timestamp(last.instant);
      return at + kLength;
    }
    const unsigned h = digit(at[12]) * 10 + digit(at[13]), m = digit(at[15]) * 10 + digit(at[16]),
                   sec = digit(at[18]) * 10 + digit(at[19]);
    if (h < 24 && m < 60 && sec < 60 && digit(at[12]) < 10 && digit(at[13]) < 10 && digit(at[15]) < 10 &&
        digit(at[16]) < 10 && digit(at[18]) < 10 && digit(at[19]) < 10 && at[14] == ':' && at[17] == ':') {
      last.instant = last.midnight + std::int64_t{h * 3600 + m * 60 + sec} * 1'000'000'000;
      std::memcpy(last.text + 12, at + 12, 8);
      out = Value::timestamp(last.instant);
      return at + kLength;
    }
    return nullptr;
  }
  ParsedTime t;
  if (scan_clf_time(at, end, t) != at + kLength || at[20] != ' ' || digit(at[18]) * 10 + digit(at[19]) > 59)
    return nullptr;
  std::memcpy(last.text, at, kLength);
  last.instant = t.nanoseconds;
  last.midnight = t.nanoseconds - std::int64_t{(digit(at[12]) * 10 + digit(at[13])) * 3600 +
                                               (digit(at[15]) * 10 + digit(at[16])) * 60 +
                                               digit(at[18]) * 10 + digit(at[19])} *
                                      1'000'000'000;
  out = Value::timestamp(t.nanoseconds);
  return at + kLength;
}

// Whether the literal of up to eight bytes that must follow at p stands there; where the line ends is not
// looked at.
inline bool tail_fits(const Instruction& in, const char* p, [[maybe_unused]] const char* end) {
#if DINGLE_WIDE
  return ((load8(p) ^ in.tail) & in.mask) == 0;
#else
  return end - p >= in.tail_length && std::memcmp(p, &in.tail, in.tail_length) == 0;
#endif
}

inline const char* scan_text(const TextScan& scan, const char* at, const char* end) {
  const char* last = static_cast<std::size_t>(end - at) > scan.at_most ? at + scan.at_most : end;
  const char* p = at;
  for (std::size_t i = 0; i < scan.at_least; ++i, ++p)
    if (p == last || !(scan.flags[static_cast<unsigned char>(*p)] & 1)) return nullptr;
  for (;; ++p) {
    p = next_stop(scan, p, last);
    if (p == last || !(scan.flags[static_cast<unsigned char>(*p)] & 1) ||
        scan.delimiters.has(static_cast<unsigned char>(*p)))
      return p;
    // What follows may lie behind the most that this text may be long.
    for (const EndLiteral& e : scan.ends)
      if (e.any_case ? starts_with_any_case(p, end, e.text) : starts_with(p, end, e.text)) return p;
  }
}

// Instructions jump from one to the next by the addresses of labels (an extension that GCC and Clang have):
// one place to predict for each kind of instruction instead of one for all.
#pragma GCC diagnostic push
#pragma GCC diagnostic ignored "-Wpedantic"

const char* run(const Program& program, std::uint32_t start, const char* at, MatchState& s) {
  static const void* const kLabels[] = {
      &&nothing, &&literal, &&any_case, &&integer, &&decimal, &&ip,       &&clf_time, &&lexeme, &&run, &&find,
      &&text,    &&rest,    &&regex,    &&blanks,  &&fields,  &&optional, &&choice,   &&span,   &&done};
  static_assert(std::size(kLabels) == static_cast<std::size_t>(Instruction::Code::done) + 1);
  const Instruction* const first = program.code.data();
  const Instruction* in = first + start;
  Value* const values = s.values;
  const char* const end = s.end;
  const char* p = nullptr;

#define DINGLE_FAIL return s.stopped = in, s.stopped_at = at, nullptr
#define DINGLE_BEGIN goto* kLabels[static_cast<int>(in->code)]
  // Checks the literal behind the element, which ends at p.
#define DINGLE_TAIL                             \
  do {                                          \
    if (!tail_fits(*in, p, end)) DINGLE_FAIL;   \
    if (in->tail_length > end - p) DINGLE_FAIL; \
    at = p + in->tail_length;                   \
  } while (false)
#define DINGLE_NEXT \
  do {              \
    DINGLE_TAIL;    \
    ++in;           \
    DINGLE_BEGIN;   \
  } while (false)
#define DINGLE_NEXT_BEHIND_GROUP \
  do {                           \
    DINGLE_TAIL;                 \
    in = first + in->next;       \
    DINGLE_BEGIN;                \
  } while (false)

  DINGLE_BEGIN;

nothing:
  p = at;
  DINGLE_NEXT;

literal : {
  const std::string& expected = program.literals[in->operand];
  if (!starts_with(at, end, expected)) DINGLE_FAIL;
  p = at + expected.size();
  DINGLE_NEXT;
}

any_case : {
  const std::string& expected = program.literals[in->operand];
  if (!starts_with_any_case(at, end, expected)) DINGLE_FAIL;
  p = at + expected.size();
  DINGLE_NEXT;
}

integer:
  p = quick_integer(at, end, values[in->slot]);
  if (p != nullptr) [[likely]]
    DINGLE_NEXT;
  goto lexeme;

decimal:
  p = quick_decimal(at, end, values[in->slot]);
  if (p != nullptr) [[likely]]
    DINGLE_NEXT;
  goto lexeme;

ip:
  p = quick_ip(at, end, values[in->slot]);
  if (p != nullptr) [[likely]]
    DINGLE_NEXT;
  goto lexeme;

clf_time:
  p = quick_clf_time(at, end, values[in->slot]);
  if (p != nullptr) [[likely]]
    DINGLE_NEXT;
  goto lexeme;

lexeme : {
  const LexemeUse& use = program.lexemes[in->operand];
  Value& out = values[in->slot];
  p = use.scan(at, end, s.context, use.settings.get(), out);
  if (p == nullptr || !use.within(out)) DINGLE_FAIL;
  DINGLE_NEXT;
}

run : {
  const TextScan& scan = program.texts[in->operand];
  p = next_stop(scan, at, end);
  if (static_cast<std::size_t>(p - at) < scan.at_least) DINGLE_FAIL;
  values[in->slot] = Value::text({at, static_cast<std::size_t>(p - at)});
  s.work += static_cast<std::size_t>(p - at);
  DINGLE_NEXT;
}

find : {
  const TextScan& scan = program.texts[in->operand];
  const std::string& literal = scan.ends[0].text;
  const auto c = static_cast<char>(scan.only_stop);
#if DINGLE_WIDE
  // Places where the first byte and another one of the literal fit; then all of it.
  const std::size_t other = scan.other_byte;
  const char second = literal[other];
  for (p = at; p < end; p += kWide) {
    std::uint64_t places = equals(p, c);
    if (other != 0) places &= equals(p + other, second);
    for (; places != 0; places &= places - 1) {
      const char* q = p + __builtin_ctzll(places);
      if (tail_fits(*in, q, end) && (literal.size() <= 8 || starts_with(q, end, literal))) {
        p = q;
        goto found;
      }
    }
  }
  s.work += static_cast<std::size_t>(end - at);
  DINGLE_FAIL;
found:
#else
  for (p = at;; ++p) {
    p = find_byte(c, p, end);
    if (p == end) {
      s.work += static_cast<std::size_t>(end - at);
      DINGLE_FAIL;
    }
    if (tail_fits(*in, p, end) && (literal.size() <= 8 || starts_with(p, end, literal))) break;
  }
#endif
  values[in->slot] = Value::text({at, static_cast<std::size_t>(p - at)});
  s.work += static_cast<std::size_t>(p - at);
  if (in->tail_length > end - p) DINGLE_FAIL;
  at = p + in->tail_length;
  ++in;
  DINGLE_BEGIN;
}

text:
  p = scan_text(program.texts[in->operand], at, end);
  if (p == nullptr) DINGLE_FAIL;
  values[in->slot] = Value::text({at, static_cast<std::size_t>(p - at)});
  s.work += static_cast<std::size_t>(p - at);
  DINGLE_NEXT;

rest:
  p = end;
  values[in->slot] = Value::text({at, static_cast<std::size_t>(p - at)});
  DINGLE_NEXT;

regex : {
  const RegexUse& use = program.regexes[in->operand];
  std::size_t from = 0, to = 0;
  const auto outcome = use.regex.match({at, static_cast<std::size_t>(end - at)}, &from, &to);
  if (outcome != Regex::Outcome::match) {
    s.too_expensive |= outcome == Regex::Outcome::too_expensive;
    DINGLE_FAIL;
  }
  Value& out = values[in->slot];
  out = convert_text({at, to}, use.kind, s.context);
  if (out.absent()) DINGLE_FAIL;
  for (const auto& [number, slot] : use.groups) {
    const auto [begins, ends] = Regex::group(number);
    values[slot] = begins < ends && ends <= to ? Value::text({at + begins, ends - begins}) : Value();
  }
  p = at + to;
  DINGLE_NEXT;
}

blanks:
  p = at;
  while (p != end && (*p == ' ' || *p == '\t')) ++p;
  if (p == at) DINGLE_FAIL;
  DINGLE_NEXT;

fields : {
  Value& out = values[in->slot];
  p = run_fields(program.fields[in->operand], at, s, &out);
  if (p == nullptr) DINGLE_FAIL;
  DINGLE_NEXT;
}

optional : {
  const std::size_t found = s.context.found ? s.context.found->size() : 0;
  p = run(program, program.branch_starts[in->operand][0], at, s);
  if (p == nullptr) {
    if (s.too_expensive || s.work > s.limit) return s.too_expensive = true, nullptr;
    program.clear(program.branches[in->operand][0], values);
    if (s.context.found) s.context.found->resize(found);
    p = at;
  }
  DINGLE_NEXT_BEHIND_GROUP;
}

choice : {
  const std::vector<std::uint32_t>& starts = program.branch_starts[in->operand];
  const std::size_t found = s.context.found ? s.context.found->size() : 0;
  p = nullptr;
  for (std::size_t k = 0; k < starts.size() && p == nullptr; ++k) {
    p = run(program, starts[k], at, s);
    if (p != nullptr) break;
    if (s.too_expensive || s.work > s.limit) return s.too_expensive = true, nullptr;
    program.clear(program.branches[in->operand][k], values);
    if (s.context.found) s.context.found->resize(found);
  }
  if (p == nullptr) DINGLE_FAIL;
  DINGLE_NEXT_BEHIND_GROUP;
}

span:
  p = run(program, static_cast<std::uint32_t>(in - first) + 1, at, s);
  if (p == nullptr) DINGLE_FAIL;
  values[in->slot] = Value::text({at, static_cast<std::size_t>(p - at)});
  DINGLE_NEXT_BEHIND_GROUP;

done:
  return at;
#undef DINGLE_FAIL
#undef DINGLE_BEGIN
#undef DINGLE_TAIL
#undef DINGLE_NEXT
#undef DINGLE_NEXT_BEHIND_GROUP
}
#pragma GCC diagnostic pop
