#include "core/draft/shapes.h"

#ifdef __SSE2__
#include <emmintrin.h>
#endif
#include <xxhash.h>

#include <algorithm>
#include <array>
#include <bit>
#include <cstring>
#include <map>
#include <set>

#include "core/ascii.h"
#include "core/draft/tokens.h"

namespace dingle {
namespace {

constexpr std::size_t kMostKnown = 400'000;
constexpr std::size_t kLooksAt = 400;  // bytes of a text; a shape has fewer
constexpr std::size_t kManyWords = 8;  // at one place: then any may stand there

// Which bytes of a text, up to kLooksAt of them, are of a kind: a bit each.
class Bits {
 public:
  // The first place from `at` on that is set, or that is not; `size` if there is none before.
  std::size_t next(std::size_t at, std::size_t size) const { return find(at, size, 0); }
  std::size_t next_unset(std::size_t at, std::size_t size) const { return find(at, size, ~std::uint64_t{0}); }
  // Behind the last place before `at` that is not set, but not before `least`.
  std::size_t behind_unset(std::size_t at, std::size_t least) const {
    while (at > least && (words_[(at - 1) / 64] >> ((at - 1) % 64) & 1) != 0) --at;
    return at;
  }
  void set(std::size_t at, std::uint64_t sixteen) { words_[at / 64] |= sixteen << (at % 64); }

 private:
  std::size_t find(std::size_t at, std::size_t size, std::uint64_t flip) const {
    for (; at < size; at = (at / 64 + 1) * 64)
      if (const std::uint64_t left = (words_[at / 64] ^ flip) >> (at % 64); left != 0)
        return std::min(size, at + static_cast<std::size_t>(std::countr_zero(left)));
    return size;
  }
  std::array<std::uint64_t, (kLooksAt + 63) / 64> words_{};
};

#ifdef __SSE2__
// Which of sixteen bytes are one of `least` and the `span` behind it.
__m128i within(__m128i bytes, char least, char span) {
  const __m128i over = _mm_sub_epi8(bytes, _mm_set1_epi8(least));
  return _mm_cmpeq_epi8(_mm_min_epu8(over, _mm_set1_epi8(span)), over);
}
#endif

// A number for texts that begin alike but for the values of their digits. Not 0.
std::uint64_t key_of(std::string_view text) {
  char zeros[kLooksAt + 16];
  text = text.substr(0, kLooksAt);
  std::size_t at = 0;
#ifdef __SSE2__
  for (; at + 16 <= text.size(); at += 16) {
    const __m128i bytes = _mm_loadu_si128(reinterpret_cast<const __m128i*>(text.data() + at));
    const __m128i digits = within(bytes, '0', 9);
    _mm_storeu_si128(
        reinterpret_cast<__m128i*>(zeros + at),
        _mm_or_si128(_mm_andnot_si128(digits, bytes), _mm_and_si128(digits, _mm_set1_epi8('0'))));
  }
#endif
  for (; at < text.size(); ++at) zeros[at] = is_digit(text[at]) ? '0' : text[at];
  return XXH3_64bits(zeros, text.size()) | 1;
}

// Digits, and what words are made of.
struct Kinds {
  Bits digit, word;
  explicit Kinds(std::string_view text) {
    for (std::size_t at = 0; at < text.size(); at += 16) {
      char last[16] = {};
      const char* from = text.data() + at;
      if (text.size() - at < sizeof last)
        from = static_cast<const char*>(std::memcpy(last, from, text.size() - at));
      std::uint64_t digits = 0, letters = 0;
#ifdef __SSE2__
      const __m128i bytes = _mm_loadu_si128(reinterpret_cast<const __m128i*>(from));
      const auto bits = [](__m128i b) { return static_cast<unsigned>(_mm_movemask_epi8(b)); };
      digits = bits(within(bytes, '0', 9));
      letters = bits(within(_mm_or_si128(bytes, _mm_set1_epi8(0x20)), 'a', 25));
#else
      for (unsigned i = 0; i < 16; ++i) {
        digits |= std::uint64_t{is_digit(from[i])} << i;
        letters |= std::uint64_t{is_letter(from[i])} << i;
      }
#endif
      digit.set(at, digits);
      word.set(at, digits | letters);
    }
  }
};

// The text's beginning without what its digits say: a number by how many it has (12 and 17, not 1200), with its unit (12ms); another word with
// a digit by its length.
void write_beginning(std::string_view text, std::string& out) {
  constexpr std::size_t kLongestNumber = 5, kLongestUnit = 3;
  text = text.substr(0, kLooksAt);
  const Kinds kinds(text);
  out.resize(text.size());
  char* to = out.data();
  const auto copy = [&](std::size_t from, std::size_t end) {
    std::memcpy(to, text.data() + from, end - from);
    to += end - from;
  };
  for (std::size_t at = 0; at < text.size();) {
    const std::size_t digit = kinds.digit.next(at, text.size());
    const std::size_t begin = kinds.word.behind_unset(digit, at);
    if (digit == text.size()) {
      copy(at, digit);
      break;
    }
    copy(at, begin);
    const std::size_t end = kinds.word.next_unset(digit, text.size()),
                      unit = kinds.digit.next_unset(begin, end);
    const std::size_t size = end - begin, digits = unit - begin;
    const bool more = kinds.digit.next(unit, end) != end;
    at = end;
    if (more || (digits != 0 && size - digits > kLongestUnit)) {
      *to++ = '\1';
      if (size > 1) *to++ = static_cast<char>(std::min<std::size_t>(size, 40));
      continue;
    }
    for (std::size_t i = 0; i < std::min(digits, kLongestNumber); ++i) *to++ = '0';
    copy(unit, end);
  }
  out.resize(static_cast<std::size_t>(to - out.data()));
}

}  // namespace

ShapeCount::Kept* ShapeCount::kept(std::string_view text, std::int64_t reference) {
  const std::uint64_t key = key_of(text);
  Recent& recent = recent_[key >> 51];
  static_assert(std::uint64_t{1} << (64 - 51) == 8192);
  if (recent.key != key) recent = {key, found(text, reference)};
  return recent.kept;
}

ShapeCount::Kept* ShapeCount::found(std::string_view text, std::int64_t reference) {
  write_beginning(text, beginning_);
  const std::uint64_t key = XXH3_64bits(beginning_.data(), beginning_.size());
  if (const auto it = known_.find(key); it != known_.end()) return it->second;
  Kept made;
  made.counted.shape = shape_of(text, reference, made.pieces, made.words);
  auto it = shapes_.find(made.counted.shape);
  if (it == shapes_.end() && shapes_.size() < kMostShapes)
    it = shapes_.emplace(made.counted.shape, std::move(made)).first;
  Kept* const found = it == shapes_.end() ? nullptr : &it->second;
  if (known_.size() < kMostKnown) known_.emplace(key, found);
  return found;
}

void ShapeCount::add(std::string_view text, std::int64_t reference, unsigned period, std::uint64_t times) {
  Kept* const k = kept(text, reference);
  if (k == nullptr) {
    others_[period] += times;
    return;
  }
  if (k->counted.count[period] == 0)
    k->counted.example[period] = text.substr(0, CountedShape::kLongestExample);
  k->counted.count[period] += times;
}

namespace {

void put_together(CountedShape& to, const CountedShape& more) {
  for (std::size_t p = 0; p < 2; ++p) {
    if (to.count[p] == 0) to.example[p] = more.example[p];
    to.count[p] += more.count[p];
  }
}

}  // namespace

void ShapeCount::take(ShapeCount&& other) {
  for (std::size_t p = 0; p < 2; ++p) others_[p] += other.others_[p];
  for (auto& [shape, k] : other.shapes_) {
    const auto it = shapes_.find(shape);
    if (it != shapes_.end())
      put_together(it->second.counted, k.counted);
    else if (shapes_.size() < 2 * kMostShapes)
      shapes_.emplace(shape, std::move(k));
    else
      for (std::size_t p = 0; p < 2; ++p) others_[p] += k.counted.count[p];
  }
}

std::vector<CountedShape> ShapeCount::shapes() const {
  // Shapes that differ in words alone, and which words stand at each place.
  std::map<std::string, std::vector<const Kept*>> alike;
  for (const auto& [shape, k] : shapes_) {
    std::string bare;
    for (std::size_t i = 0; i < k.pieces.size(); ++i) bare += k.words[i] ? std::string(1, '\0') : k.pieces[i];
    alike[bare].push_back(&k);
  }
  std::map<std::string, CountedShape> all;
  for (const auto& [bare, these] : alike) {
    const std::size_t pieces = these.front()->pieces.size();
    std::vector<std::set<std::string_view>> words(pieces);
    for (const Kept* k : these)
      for (std::size_t i = 0; i < pieces; ++i)
        if (k->words[i] && words[i].size() <= kManyWords) words[i].insert(k->pieces[i]);
    for (const Kept* k : these) {
      std::string shape;
      for (std::size_t i = 0; i < pieces; ++i)
        shape += words[i].size() > kManyWords ? "{word}" : k->pieces[i];
      const auto [it, added] = all.try_emplace(shape);
      if (added) it->second.shape = shape;
      put_together(it->second, k->counted);
    }
  }
  std::vector<CountedShape> sorted;
  for (auto& [shape, counted] : all) sorted.push_back(std::move(counted));
  std::stable_sort(sorted.begin(), sorted.end(), [](const CountedShape& a, const CountedShape& b) {
    return a.count[0] + a.count[1] > b.count[0] + b.count[1];
  });
  return sorted;
}

}  // namespace dingle
