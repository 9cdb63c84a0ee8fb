#define PCRE2_CODE_UNIT_WIDTH 8
#include "core/template/regex.h"

#include <pcre2.h>

#include <algorithm>
#include <vector>

namespace dingle {
namespace {

// Steps of the engine in one call: so many, and so many for each byte of the text.
constexpr std::uint32_t kLeastLimit = 500, kLimitPerByte = 4, kMostLimit = 1'000'000;
constexpr std::size_t kLongestRegex = 10'000;

// What a thread needs to match; made at its first match.
struct PerThread {
  pcre2_match_data* data = pcre2_match_data_create(Regex::kMostGroups + 1, nullptr);
  pcre2_match_context* context = pcre2_match_context_create(nullptr);
  pcre2_jit_stack* stack = pcre2_jit_stack_create(32 * 1024, 512 * 1024, nullptr);
  PerThread() {
    pcre2_set_depth_limit(context, kMostLimit);
    pcre2_set_heap_limit(context, 10'000);  // KiB
    pcre2_jit_stack_assign(context, nullptr, stack);
  }
  ~PerThread() {
    pcre2_match_data_free(data);
    pcre2_match_context_free(context);
    pcre2_jit_stack_free(stack);
  }
};

PerThread& per_thread() {
  thread_local PerThread the_one;
  return the_one;
}

// The offset of something that templates do not allow, or npos.
std::size_t refused_part(std::string_view pattern, std::string* what) {
  bool in_class = false;
  for (std::size_t i = 0; i < pattern.size(); ++i) {
    if (pattern[i] == '\\' && i + 1 < pattern.size()) {
      char next = pattern[i + 1];
      if (!in_class && (next == 'K' || next == 'C')) return *what = std::string("\\") + next, i;
      if (next == 'Q') {
        std::size_t close = pattern.find("\\E", i);
        if (close == std::string_view::npos) return std::string_view::npos;
        i = close;
      }
      ++i;
    } else if (in_class) {
      in_class = pattern[i] != ']';
    } else if (pattern[i] == '[') {
      in_class = true;
      if (i + 1 < pattern.size() && pattern[i + 1] == '^') ++i;
      if (i + 1 < pattern.size() && pattern[i + 1] == ']') ++i;
    } else if (pattern.substr(i, 2) == "(*") {
      return *what = "a verb (*...)", i;
    }
  }
  return std::string_view::npos;
}

}  // namespace

Result<Regex> Regex::compile(std::string_view pattern, Where where) {
  if (pattern.size() > kLongestRegex)
    return Problem{"the regex is longer than 10000 bytes", "split it into several parts", 0, pattern.size()};
  std::string what;
  if (std::size_t at = refused_part(pattern, &what); at != std::string_view::npos)
    return Problem{what + " is not allowed in a regex here", "match from left to right without it", at, 2};
  std::uint32_t options = PCRE2_NO_AUTO_CAPTURE | (where == Where::anchored ? PCRE2_ANCHORED : 0);
  if (std::any_of(pattern.begin(), pattern.end(),
                  [](char c) { return static_cast<unsigned char>(c) >= 0x80; }) ||
      pattern.find("\\p") != std::string_view::npos || pattern.find("\\x{") != std::string_view::npos)
    options |= PCRE2_UTF | PCRE2_MATCH_INVALID_UTF;
  int error = 0;
  std::size_t offset = 0;
  pcre2_code* code = pcre2_compile(reinterpret_cast<PCRE2_SPTR>(pattern.data()), pattern.size(), options,
                                   &error, &offset, nullptr);
  if (code == nullptr) {
    char message[256];
    pcre2_get_error_message(error, reinterpret_cast<PCRE2_UCHAR*>(message), sizeof message);
    return Problem{std::string("the regex is not valid: ") + message, "", std::min(offset, pattern.size()),
                   1};
  }
  pcre2_jit_compile(code, PCRE2_JIT_COMPLETE);
  Regex regex;
  regex.code_ = std::shared_ptr<const void>(code, [](const void* c) {
    pcre2_code_free(const_cast<pcre2_code*>(static_cast<const pcre2_code*>(c)));
  });
  regex.source_ = std::string(pattern);
  std::uint32_t may_be_empty = 1, first_type = 0, first_unit = 0;
  const std::uint8_t* bitmap = nullptr;
  pcre2_pattern_info(code, PCRE2_INFO_MATCHEMPTY, &may_be_empty);
  pcre2_pattern_info(code, PCRE2_INFO_FIRSTBITMAP, &bitmap);
  pcre2_pattern_info(code, PCRE2_INFO_FIRSTCODETYPE, &first_type);
  pcre2_pattern_info(code, PCRE2_INFO_FIRSTCODEUNIT, &first_unit);
  if (!may_be_empty && bitmap != nullptr) {
    std::string bytes;
    for (unsigned b = 0; b < 256; ++b)
      if (bitmap[b / 8] >> (b % 8) & 1) bytes += static_cast<char>(b);
    regex.first_ = ByteClass::of(bytes);
  } else if (!may_be_empty && first_type == 1) {
    auto c = static_cast<char>(first_unit);
    const bool letter = (c | 0x20) >= 'a' && (c | 0x20) <= 'z';
    const std::string both{c,
                           letter ? static_cast<char>(c ^ 0x20) : c};  // the engine may have folded the case
    regex.first_ = ByteClass::of(both);
  }
  return regex;
}

// A repetition without bound within another one, with nothing behind it in the group that must be there:
// (a+)+, (\\w+ ?)*. Every way to share the text between the two is tried before the regex fails.
Regex::Lint Regex::lint() const {
  struct Group {
    std::size_t offset;
    bool atomic;
    bool ambiguous = false;  // ends with an unbounded repetition, maybe followed by parts that may be missing
  };
  std::vector<Group> open;
  const std::string& r = source_;
  auto quantifier = [&](std::size_t& i, bool& unbounded, bool& optional, bool& possessive) {
    unbounded = optional = possessive = false;
    if (i >= r.size()) return;
    if (r[i] == '*') {
      unbounded = optional = true, ++i;
    } else if (r[i] == '+') {
      unbounded = true, ++i;
    } else if (r[i] == '?') {
      optional = true, ++i;
    } else if (r[i] == '{') {
      const std::size_t close = r.find('}', i);
      if (close == std::string::npos || r.find_first_not_of("0123456789,", i + 1) < close) return;
      unbounded = r[close - 1] == ',';
      optional = r[i + 1] == '0' || r[i + 1] == ',';
      i = close + 1;
    } else {
      return;
    }
    if (i < r.size() && r[i] == '+')
      possessive = true, ++i;
    else if (i < r.size() && r[i] == '?')
      ++i;
  };
  for (std::size_t i = 0; i < r.size();) {
    const std::size_t begin = i;
    bool group_ended = false;
    Group ended{0, false};
    if (r[i] == '\\') {
      i += 2;
    } else if (r[i] == '[') {
      i += r.compare(i + 1, 2, "^]") == 0 ? 3 : r.compare(i + 1, 1, "]") == 0 ? 2 : 1;
      while (i < r.size() && r[i] != ']') i += r[i] == '\\' ? 2 : 1;
      ++i;
    } else if (r[i] == '(') {
      open.push_back({i, r.compare(i, 3, "(?>") == 0});
      ++i;
      if (i < r.size() && r[i] == '?') {
        while (i < r.size() && r[i] != ':' && r[i] != '>' && r[i] != '=' && r[i] != '!' && r[i] != ')') ++i;
        if (i < r.size() && r[i] != ')') ++i;
      }
      continue;
    } else if (r[i] == ')') {
      ++i;
      if (open.empty()) continue;
      ended = open.back();
      open.pop_back();
      group_ended = true;
    } else if (r[i] == '|') {
      ++i;  // what ends an alternative counts as what ends the group
      continue;
    } else {
      ++i;
    }
    bool unbounded, optional, possessive;
    quantifier(i, unbounded, optional, possessive);
    if (group_ended && ended.ambiguous && !ended.atomic && unbounded && !possessive)
      return {"an unbounded repetition within another: the regex may try very many ways before it fails",
              ended.offset, i - ended.offset};
    if (open.empty()) continue;
    const bool inner = (unbounded && !possessive) || (group_ended && ended.ambiguous && !ended.atomic);
    if (inner)
      open.back().ambiguous = true;
    else if (!optional && begin < i)
      open.back().ambiguous = false;
  }
  return {};
}

Regex::Outcome Regex::match(std::string_view text, std::size_t* from, std::size_t* to) const {
  PerThread& mine = per_thread();
  auto* code = static_cast<const pcre2_code*>(code_.get());
  const char* subject = text.data() ? text.data() : "";
  pcre2_set_match_limit(mine.context, static_cast<std::uint32_t>(std::min<std::size_t>(
                                          kMostLimit, kLeastLimit + kLimitPerByte * text.size())));
  int n =
      pcre2_match(code, reinterpret_cast<PCRE2_SPTR>(subject), text.size(), 0, 0, mine.data, mine.context);
  if (n == PCRE2_ERROR_NOMATCH) return Outcome::no_match;
  if (n < 0) return Outcome::too_expensive;
  const std::size_t* ovector = pcre2_get_ovector_pointer(mine.data);
  *from = ovector[0];
  *to = ovector[1];
  return Outcome::match;
}

std::pair<std::size_t, std::size_t> Regex::group(std::size_t number) {
  const std::size_t* ovector = pcre2_get_ovector_pointer(per_thread().data);
  return {ovector[2 * number], ovector[2 * number + 1]};
}

Regex::Finder::Finder(const Regex& regex)
    : regex_(regex),
      data_(
          pcre2_match_data_create_from_pattern(static_cast<const pcre2_code*>(regex.code_.get()), nullptr)) {}
Regex::Finder::~Finder() { pcre2_match_data_free(static_cast<pcre2_match_data*>(data_)); }

Regex::Outcome Regex::Finder::find(std::string_view text, std::size_t from) {
  PerThread& mine = per_thread();
  pcre2_set_match_limit(mine.context, static_cast<std::uint32_t>(std::min<std::size_t>(
                                          kMostLimit, kLeastLimit + kLimitPerByte * text.size())));
  const int n = pcre2_match(static_cast<const pcre2_code*>(regex_.code_.get()),
                            reinterpret_cast<PCRE2_SPTR>(text.data() ? text.data() : ""), text.size(), from,
                            0, static_cast<pcre2_match_data*>(data_), mine.context);
  return n == PCRE2_ERROR_NOMATCH ? Outcome::no_match : n < 0 ? Outcome::too_expensive : Outcome::match;
}

std::pair<std::size_t, std::size_t> Regex::Finder::place(std::size_t number) const {
  const std::size_t* ovector = pcre2_get_ovector_pointer(static_cast<pcre2_match_data*>(data_));
  return {ovector[2 * number], ovector[2 * number + 1]};
}

std::vector<std::pair<std::string, std::size_t>> Regex::groups() const {
  std::vector<std::pair<std::string, std::size_t>> all;
  const auto* code = static_cast<const pcre2_code*>(code_.get());
  std::uint32_t count = 0, size = 0;
  PCRE2_SPTR table = nullptr;
  pcre2_pattern_info(code, PCRE2_INFO_NAMECOUNT, &count);
  pcre2_pattern_info(code, PCRE2_INFO_NAMEENTRYSIZE, &size);
  pcre2_pattern_info(code, PCRE2_INFO_NAMETABLE, &table);
  for (std::uint32_t i = 0; i < count; ++i)
    all.emplace_back(reinterpret_cast<const char*>(table + i * size + 2),
                     std::size_t{table[i * size]} << 8 | table[i * size + 1]);
  std::ranges::sort(all, {}, &std::pair<std::string, std::size_t>::second);
  return all;
}

}  // namespace dingle
