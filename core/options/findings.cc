#include "core/options/findings.h"

#include <algorithm>
#include <cstdint>

namespace dingle {
namespace {

std::string_view line_of(std::string_view source, std::size_t line) {
  for (std::size_t n = 1; n < line; ++n) {
    std::size_t end = source.find('\n');
    if (end == std::string_view::npos) return {};
    source.remove_prefix(end + 1);
  }
  source = source.substr(0, source.find('\n'));
  if (!source.empty() && source.back() == '\r') source.remove_suffix(1);
  return source;
}

}  // namespace

void Findings::add_within(bool is_error, const Node& scalar, const Problem& problem) {
  Place place = scalar.place;
  std::string_view line = line_of(source_, place.line);
  std::size_t length = std::max<std::size_t>(1, problem.length);
  if (place.column >= 1 && place.column <= line.size()) {
    std::string_view raw = line.substr(place.column - 1);
    const char quote = raw[0] == '\'' || raw[0] == '"' ? raw[0] : '\0';
    std::size_t at = quote ? 1 : 0, offset = 0;
    bool same = true;
    while (offset < problem.offset && at < raw.size()) {  // walk both texts side by side
      if (quote == '\'' && raw.substr(at, 2) == "''")
        ++at;
      else if (quote == '"' && raw[at] == '\\')
        ++at;
      else if (offset < scalar.scalar.size() && raw[at] != scalar.scalar[offset])
        same = false;
      ++at, ++offset;
    }
    if (same && offset == problem.offset)
      place.column += at;
    else
      length = 1;
  }
  all_.push_back({is_error, place, length, problem.message, problem.hint});
}

std::size_t Findings::errors() const {
  return static_cast<std::size_t>(
      std::count_if(all_.begin(), all_.end(), [](const Finding& f) { return f.is_error; }));
}

void Findings::sort() {
  std::stable_sort(all_.begin(), all_.end(), [](const Finding& a, const Finding& b) {
    return std::pair(a.place.line, a.place.column) < std::pair(b.place.line, b.place.column);
  });
}

namespace {

// The line with stars for what stands where a secret belongs, though it should not stand there.
std::string without_secrets(std::string line) {
  for (const char* key : {"password", "token", "bearer", "secret"})
    for (std::size_t at = 0; (at = line.find(key, at)) != std::string::npos;) {
      at += std::string_view(key).size();
      std::size_t value = line.find_first_not_of(" '\"", at);
      if (value == std::string::npos || (line[value] != ':' && line[value] != '=')) continue;
      value = line.find_first_not_of(" '\"", value + 1);
      if (value == std::string::npos || line[value] == '{') continue;
      for (; value < line.size() && line.find_first_of(" ,}'\"", value) != value; ++value) line[value] = '*';
    }
  return line;
}

}  // namespace

std::string render(const Finding& f, std::string_view file, std::string_view source, Painter painter,
                   std::size_t width) {
  auto paint = [&](const char* code, const std::string& text) {
    return painter ? painter(code, text) : text;
  };
  std::string out;
  std::string where = std::string(file);
  if (f.place.line) where += ":" + std::to_string(f.place.line) + ":" + std::to_string(f.place.column);
  out += paint("1", where + ":") + " " + (f.is_error ? paint("1;31", "error:") : paint("1;33", "warning:")) +
         " " + paint("1", f.message) + "\n";
  std::string number = std::to_string(f.place.line);
  std::string margin(number.size() + 2, ' ');
  if (f.place.line) {
    const std::string line = without_secrets(std::string(line_of(source, f.place.line)));
    std::size_t column = std::max<std::size_t>(1, std::min(f.place.column, line.size() + 1));
    std::size_t length = std::max<std::size_t>(1, std::min(f.length, line.size() + 1 - column));
    const std::size_t room =
        std::max<std::size_t>(60, width) - margin.size() - 4;  // for what is shown of the line
    const std::size_t from = column > room - 15 ? column - room / 2 : 0;
    std::string shown = line.substr(std::min(from, line.size()), room);
    std::string caret;
    std::size_t shown_length = 0;
    for (std::size_t i = from; i + 1 < column + length && i < from + room; ++i) {
      if (i < line.size() && (static_cast<unsigned char>(line[i]) & 0xC0) == 0x80)
        continue;  // one column a character
      if (i + 1 < column)
        caret += i < line.size() && line[i] == '\t' ? '\t' : ' ';
      else
        caret += shown_length++ == 0 ? '^' : '~';
    }
    if (shown_length == 0) caret += '^';
    out += "  " + paint("2", number + " |") + " " + shown + "\n" + margin + " " + paint("2", "|") + " " +
           paint("1;31", caret) + "\n";
  }
  if (!f.hint.empty()) out += margin + " " + paint("2", "=") + " " + f.hint + "\n";
  return out;
}

}  // namespace dingle
