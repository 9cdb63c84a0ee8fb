#include "core/draft/table.h"

#include <algorithm>
#include <set>

#include "core/draft/names.h"
#include "core/draft/tokens.h"

namespace dingle {
namespace {

constexpr std::size_t kMostRows = 4'000;

// The cells of a line by a separator, quotes observed.
std::vector<std::string_view> cells_of(std::string_view line, char separator) {
  std::vector<std::string_view> cells;
  std::size_t from = 0;
  bool quoted = false;
  for (std::size_t i = 0; i <= line.size(); ++i) {
    if (i < line.size() && line[i] == '"') quoted = !quoted;
    if (i == line.size() || (line[i] == separator && !quoted)) {
      cells.push_back(line.substr(from, i - from));
      from = i + 1;
    }
  }
  return cells;
}

}  // namespace

std::optional<DraftTable> draft_table(const std::vector<std::string_view>& lines, std::int64_t now) {
  for (char separator : {',', ';', '\t', '|'}) {
    const std::size_t columns = cells_of(lines[0], separator).size();
    if (columns < 3) continue;
    const auto same =
        static_cast<std::size_t>(std::count_if(lines.begin(), lines.end(), [&](std::string_view line) {
          return cells_of(line, separator).size() == columns;
        }));
    if (lines.size() < 2 || static_cast<double>(same) < 0.98 * static_cast<double>(lines.size())) continue;
    // Types of the columns without the first line, which may have their names.
    std::vector<std::set<std::string>> types(columns);
    std::vector<std::size_t> blanks(columns);
    const std::size_t step = lines.size() / kMostRows + 1;
    std::size_t studied = 0;
    for (std::size_t i = 1; i < lines.size(); i += step) {
      const auto cells = cells_of(lines[i], separator);
      if (cells.size() != columns) continue;
      ++studied;
      for (std::size_t k = 0; k < columns; ++k) {
        if (cells[k].empty()) continue;
        blanks[k] += cells[k].find(' ') != std::string_view::npos && cells[k][0] != '"';
        const auto tokens = tokens_of(cells[k], now);
        const bool typed = tokens.size() == 1 && tokens[0].kind != Token::Form::word &&
                           tokens[0].kind != Token::Form::dotted && tokens[0].kind != Token::Form::path &&
                           tokens[0].kind != Token::Form::quoted && tokens[0].kind != Token::Form::json &&
                           tokens[0].kind != Token::Form::uri;
        types[k].insert(typed ? pattern_of(tokens[0]) : "text");
      }
    }
    // Sentences with commas are no table: few cells have blanks, and some have types.
    std::size_t wordy = 0, typed = 0;
    for (std::size_t k = 0; k < columns; ++k) {
      if (types[k] == std::set<std::string>{"decimal", "int"}) types[k] = {"decimal"};
      if (types[k].size() != 1 || *types[k].begin() == kEitherOrder) types[k] = {"text"};
      typed += *types[k].begin() != "text";
      wordy += blanks[k] * 5 > studied * 4;
    }
    if (studied == 0 || wordy * 3 > columns || (typed == 0 && separator != '\t')) continue;
    const auto head = cells_of(lines[0], separator);
    bool header = true;
    for (std::size_t k = 0; k < columns; ++k) {
      const auto tokens = tokens_of(head[k], now);
      header = header && !tokens.empty() &&
               (tokens[0].kind == Token::Form::word || tokens[0].kind == Token::Form::dotted ||
                tokens[0].kind == Token::Form::quoted);
    }
    header = header && typed > 0;
    DraftTable table;
    table.header = header;
    DraftNames names;
    std::string& text = table.text = "{:csv(";
    for (std::size_t k = 0; k < columns; ++k) {
      std::string_view title = head[k];
      if (!title.empty() && title[0] == '"') title = title.substr(1, title.size() - 2);
      const std::string& type = *types[k].begin();
      const bool time =
          type.find("time") != std::string::npos || type == "rfc3339" || type == "epoch" || type == "tai64n";
      std::string name = header ? DraftNames::conventional(title)
                         : time ? "at"
                                : "column" + std::to_string(k + 1);
      if (name.empty()) name = "column" + std::to_string(k + 1);
      name = names.unique(name);
      if (time && table.time_field.empty()) table.time_field = name;
      text += (k == 0 ? "" : ", ") + name + (type == "text" ? "" : ":" + type);
    }
    if (separator != ',')
      text += std::string(", separator=\"") + (separator == '\t' ? "\\t" : std::string(1, separator)) + "\"";
    text += ")}";
    return table;
  }
  return {};
}

}  // namespace dingle
