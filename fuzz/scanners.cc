// Every typed pattern and every pattern with fields at every place of a text, times in forms of the user's
// own, and drafts of its lines: nothing reads beyond the end, and what is taken lies within.
#include <cstdlib>
#include <memory>

#include "core/draft/draft.h"
#include "core/template/lexemes.h"
#include "core/template/library.h"
#include "core/time/formats.h"
#include "core/time/instant.h"

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
  using namespace dingle;
  if (size == 0) return 0;
  constexpr std::int64_t kNow = 1'795'428'000 * kSecond;
  static const PatternLibrary library;
  static const std::vector<std::shared_ptr<const FieldScan>> fields = [] {
    std::vector<std::shared_ptr<const FieldScan>> all;
    for (const FieldPattern& p : builtin_field_patterns())
      for (int form = 0; form < 2; ++form) {
        std::vector<Parameter> parameters;
        if (std::string_view(p.name) == "csv") parameters = {{"", "a:int"}, {"", "b"}, {"", ""}};
        if (std::string_view(p.name) == "xml") parameters = {{"a", "/a/b"}, {"c", "d/@e"}, {"f", "*"}};
        if (std::string_view(p.name) == "json" && form == 1) parameters = {{"in", "string"}, {"depth", "2"}};
        std::vector<Problem> problems;
        ParameterReader reader(parameters, p.name, problems);
        all.push_back(p.prepare(reader, {library, form ? ByteClass::of(";") : ByteClass()}));
      }
    return all;
  }();
  // An exact copy on the heap, so that reading a byte too far is seen.
  auto bytes = std::make_unique<char[]>(size);
  std::copy(data, data + size, bytes.get());
  const char* const end = bytes.get() + size;
  Arena arena;
  std::vector<Field> found;
  const MatchContext context{&arena, kNow, &found, nullptr};
  const std::size_t places = std::min<std::size_t>(size, 64);
  for (std::size_t i = 0; i < places; ++i) {
    const char* at = bytes.get() + i;
    for (const Lexeme& lexeme : builtin_lexemes()) {
      Value value;
      const char* place = lexeme.scan(at, end, context, nullptr, value);
      if (place != nullptr && (place < at || place > end || value.absent())) std::abort();
      if (place != nullptr) value.to_string();
    }
    for (const auto& scan : fields) {
      std::vector<Value> columns(scan->columns().size() + 1);
      found.clear();
      const char* place = scan->scan(at, end, context, "p.", columns.data());
      if (place != nullptr && (place < at || place > end)) std::abort();
      Value whole;
      place = scan->scan_whole(at, end, context, whole);
      if (place != nullptr && (place < at || place > end)) std::abort();
      std::string json;
      whole.append_json(json);
    }
  }
  // The first half as a form, the rest as a time in it.
  const std::string_view text(bytes.get(), size);
  if (auto format = TimeFormat::compile(text.substr(0, size / 2))) {
    ParsedTime t;
    const char* at = bytes.get() + size / 2;
    const char* place = format->scan(at, end, kNow, t);
    if (place != nullptr && (place < at || place > end)) std::abort();
  }
  std::vector<std::string_view> lines;
  for (std::size_t at = 0; at <= size && lines.size() < 40;) {
    const std::size_t stop = std::min(text.find('\n', at), size);
    lines.push_back(text.substr(at, stop - at));
    at = stop + 1;
  }
  draft_templates(lines, kNow).yaml();
  return 0;
}
