#include "agent/sources/request_body.h"

#include <simdjson.h>

#include <nlohmann/json.hpp>

#include "agent/sources/line_splitter.h"

namespace dingle {
namespace {

static_assert(simdjson::SIMDJSON_PADDING <= LineBuffer::kPadding);

constexpr bool is_blank(char c) { return c == ' ' || c == '\t' || c == '\n' || c == '\r'; }

std::string_view trimmed(std::string_view text) {
  while (!text.empty() && is_blank(text.front())) text.remove_prefix(1);
  while (!text.empty() && is_blank(text.back())) text.remove_suffix(1);
  return text;
}

// What is wrong with it as JSON, if anything.
std::optional<Problem> fault_of(std::string_view body) {
  thread_local simdjson::dom::parser parser;
  if (parser.parse(body.data(), body.size(), false).error() == simdjson::SUCCESS) return {};
  if (const std::size_t nul = body.find('\0'); nul != std::string_view::npos)  // where that library would end
    return Problem{"the body is not JSON: NUL is not allowed", "", nul, 1};
  // Slower, but it says where; and it takes numbers of any size.
  try {
    struct Ignore final : nlohmann::json_sax<nlohmann::json> {
      bool null() override { return true; }
      bool boolean(bool) override { return true; }
      bool number_integer(number_integer_t) override { return true; }
      bool number_unsigned(number_unsigned_t) override { return true; }
      bool number_float(number_float_t, const string_t&) override { return true; }
      bool string(string_t&) override { return true; }
      bool binary(binary_t&) override { return true; }
      bool start_object(std::size_t) override { return true; }
      bool key(string_t&) override { return true; }
      bool end_object() override { return true; }
      bool start_array(std::size_t) override { return true; }
      bool end_array() override { return true; }
      bool parse_error(std::size_t position, const std::string&,
                       const nlohmann::json::exception& e) override {
        at = position == 0 ? 0 : position - 1;
        message = e.what();
        return false;
      }
      std::size_t at = 0;
      std::string message;
    } sax;
    if (nlohmann::json::sax_parse(body, &sax)) return {};
    // "[json.exception.parse_error.101] parse error at line 1, column 9: what" without its beginning
    if (const std::size_t colon = sax.message.find(": "); colon != std::string::npos)
      sax.message.erase(0, colon + 2);
    return Problem{"the body is not JSON: " + sax.message, "", std::min(sax.at, body.size()), 1};
  } catch (const nlohmann::json::exception& e) {
    return Problem{std::string("the body is not JSON: ") + e.what(), "", 0, 1};
  }
}

}  // namespace

std::optional<BodyEvents> lines_of(std::string_view body, std::size_t longest, std::size_t most) {
  if (body.size() > most && static_cast<std::size_t>(std::count(body.begin(), body.end(), '\n')) > most)
    return {};
  SplitSettings settings;
  settings.longest_line = longest;
  Split split_body = split(body, settings, false, true);
  return BodyEvents{std::move(split_body.events), split_body.lines, split_body.empty, split_body.cut,
                    split_body.cut_bytes};
}

Result<BodyEvents> items_of(std::string_view body, std::size_t longest, std::size_t most) {
  if (auto fault = fault_of(body)) return *fault;
  BodyEvents found;
  auto add = [&](std::string_view text) {
    text = trimmed(text);
    ++found.lines;
    const auto position = static_cast<std::uint64_t>(text.data() - body.data());
    if (text.size() > longest) {
      ++found.cut;
      found.cut_bytes += text.size() - longest;
      text = text.substr(0, longest);
    }
    found.events.push_back({text, position});
  };
  const std::string_view text = trimmed(body);
  if (!text.starts_with('[')) {
    add(text);
    return found;
  }
  // It is sound: the items end at the commas that stand neither in a string nor deeper.
  std::size_t depth = 0, begin = 1;
  for (std::size_t i = 0; i < text.size() && found.events.size() <= most; ++i) {
    const char c = text[i];
    if (c == '"') {
      for (++i; text[i] != '"'; ++i) i += text[i] == '\\';
    } else if (c == '[' || c == '{') {
      ++depth;
    } else if (c == ']' || c == '}') {
      --depth;
    }
    if ((c == ',' && depth == 1) || (c == ']' && depth == 0)) {
      const std::string_view item = text.substr(begin, i - begin);
      if (c == ',' || !trimmed(item).empty()) add(item);  // [] has none
      begin = i + 1;
    }
  }
  return found;
}

}  // namespace dingle
