#include "agent/tables/table_file.h"

#include <sys/stat.h>

#include <algorithm>
#include <filesystem>
#include <fstream>

#include "agent/json.h"
#include "agent/tables/place_file.h"
#include "core/json_fields.h"
#include "core/nearest.h"
#include "core/tables/row_table.h"

namespace dingle {
namespace {

Problem at_line(std::size_t line, const std::string& what) {
  return {"line " + std::to_string(line) + ": " + what, "", 0, 0};
}

// One record of CSV. False at the end; `problem` says why there is none.
bool next_record(std::string_view text, std::size_t& at, std::size_t& line, char separator,
                 std::vector<std::string>& cells, std::string& problem) {
  cells.clear();
  if (at >= text.size()) return false;
  for (;;) {
    std::string& cell = cells.emplace_back();
    if (at < text.size() && text[at] == '"') {
      for (++at;; ++at) {
        if (at >= text.size()) {
          problem = "a quote is not closed";
          return false;
        }
        line += text[at] == '\n';
        if (text[at] != '"')
          cell += text[at];
        else if (at + 1 < text.size() && text[at + 1] == '"')
          cell += text[at++];
        else
          break;
      }
      ++at;
    } else {
      while (at < text.size() && text[at] != separator && text[at] != '\n') cell += text[at++];
      if (cell.ends_with('\r') && (at >= text.size() || text[at] == '\n')) cell.pop_back();
    }
    if (at < text.size() && text[at] == '\r') ++at;
    if (at >= text.size()) return true;
    const char c = text[at++];
    if (c == '\n') return true;
    if (c != separator) {
      problem = "something stands behind a closing quote";
      return false;
    }
  }
}

Value typed(const std::string& text) {
  if (text.empty()) return {};
  if (text == "true" || text == "false") return Value::boolean(text == "true");
  const Value number = json_number(text);
  return number.absent() || number.is_textual() ? Value::text(text) : number;
}

RowTable::Match match_of(const std::string& name) {
  return name == "range"      ? RowTable::Match::range
         : name == "domain"   ? RowTable::Match::domain
         : name == "wildcard" ? RowTable::Match::wildcard
                              : RowTable::Match::exact;
}

Result<std::size_t> key_column(const Options& options, const std::vector<std::string>& columns) {
  const std::string& key = options.text("key");
  if (key.empty()) return std::size_t{0};
  const auto found = std::find(columns.begin(), columns.end(), key);
  if (found != columns.end()) return static_cast<std::size_t>(found - columns.begin());
  const std::string near = did_you_mean(key, columns);
  return Problem{"there is no column `" + key + "`", near.empty() ? one_of(columns) : near, 0, 0};
}

Result<std::shared_ptr<const Table>> from_csv(const Options& options, std::string_view text) {
  const std::string& written = options.text("separator");
  const char separator = written == "\\t" ? '\t' : written.empty() ? ',' : written[0];
  std::size_t at = text.starts_with("\xEF\xBB\xBF") ? 3 : 0, line = 1;
  std::vector<std::string> columns, cells;
  std::string problem;
  if (!next_record(text, at, line, separator, columns, problem))
    return at_line(1, problem.empty() ? "the file is empty" : problem);
  auto key = key_column(options, columns);
  if (!key) return key.problem();
  auto table = std::make_shared<RowTable>(match_of(options.text("match")), columns, *key);
  std::vector<Value> values;
  for (;;) {
    ++line;
    const std::size_t begins = line;
    if (!next_record(text, at, line, separator, cells, problem)) break;
    if (cells.size() == 1 && cells[0].empty()) continue;  // an empty line
    if (cells.size() != columns.size())
      return at_line(begins, std::to_string(cells.size()) + " cells, and " + std::to_string(columns.size()) +
                                 " columns");
    values.clear();
    for (const std::string& cell : cells) values.push_back(typed(cell));
    if (!table->add(cells[*key], values))
      return at_line(begins, "`" + cells[*key] + "` is no key for `match: " + options.text("match") + "`");
  }
  if (!problem.empty()) return at_line(line, problem);
  return std::shared_ptr<const Table>(table);
}

Result<std::shared_ptr<const Table>> from_ndjson(const Options& options, std::string_view text) {
  std::vector<Json> rows;
  std::vector<std::string> columns;
  std::size_t line = 0;
  for (std::size_t at = 0; at < text.size();) {
    const std::size_t end = std::min(text.find('\n', at), text.size());
    const std::string_view one = text.substr(at, end - at);
    at = end + 1;
    ++line;
    if (one.find_first_not_of(" \t\r") == std::string_view::npos) continue;
    if (nests_deeper_than(one, 16)) return at_line(line, "it nests too deeply");
    Json row = Json::parse(one, nullptr, false);
    if (!row.is_object()) return at_line(line, "this is no JSON object");
    for (const auto& [name, value] : row.items())
      if (std::find(columns.begin(), columns.end(), name) == columns.end()) columns.push_back(name);
    if (columns.size() > 200) return at_line(line, "more than 200 columns");
    rows.push_back(std::move(row));
  }
  if (columns.empty()) return at_line(1, "the file is empty");
  auto key = key_column(options, columns);
  if (!key) return key.problem();
  auto table = std::make_shared<RowTable>(match_of(options.text("match")), columns, *key);
  line = 0;
  for (const Json& row : rows) {
    ++line;
    std::vector<std::string> texts(columns.size());
    std::vector<Value> values(columns.size());
    for (std::size_t i = 0; i < columns.size(); ++i) {
      const auto member = row.find(columns[i]);
      if (member == row.end() || member->is_null()) continue;
      texts[i] = member->is_string() ? member->get<std::string>() : member->dump();
      values[i] = member->is_string()   ? Value::text(texts[i])
                  : member->is_array()  ? Value::list(texts[i])
                  : member->is_object() ? Value::map(texts[i])
                                        : typed(texts[i]);
    }
    if (!table->add(texts[*key], values))
      return at_line(line, "`" + texts[*key] + "` is no key for `match: " + options.text("match") + "`");
  }
  return std::shared_ptr<const Table>(table);
}

}  // namespace

FileStamp FileStamp::of(const std::string& path) {
  struct stat s {};
  if (::stat(path.c_str(), &s) != 0) return {};
  return {s.st_ino, static_cast<std::uint64_t>(s.st_size),
          s.st_mtim.tv_sec * 1'000'000'000L + s.st_mtim.tv_nsec};
}

const std::vector<OptionSpec>& table_options() {
  static const std::vector<OptionSpec> all{
      {.name = "file",
       .type = OptionType::text,
       .text = "The file. Relative paths begin at the configuration's working folder."},
      {.name = "noted",
       .type = OptionType::texts,
       .text = "In the place of `file`: the columns of a table that a `note` step fills from events."},
      {.name = "format",
       .type = OptionType::choice,
       .fallback = "csv",
       .text = "`csv`: the first line names the columns; `ndjson`: an object a line; `mmdb`: a database of "
               "places in the MaxMind DB "
               "format, for `locate`.",
       .choices = {"csv", "ndjson", "mmdb"}},
      {.name = "key",
       .type = OptionType::text,
       .text = "The column that holds the keys; the first if it is not given."},
      {.name = "match",
       .type = OptionType::choice,
       .fallback = "exact",
       .text = "How a value finds its row: `exact`; `range`: keys are addresses or ranges such as "
               "192.0.2.0/24, the narrowest "
               "counts; `domain`: a key stands for the domain and all below it; `wildcard`: `*` in a key "
               "stands for any text.",
       .choices = {"exact", "range", "domain", "wildcard"}},
      {.name = "separator",
       .type = OptionType::text,
       .fallback = ",",
       .text = "For CSV: one byte; `\\t` for a tab."}};
  return all;
}

Result<std::shared_ptr<const Table>> read_table(const Options& options, std::string_view text) {
  if (options.text("format") == "mmdb") return read_places(text);
  return options.text("format") == "ndjson" ? from_ndjson(options, text) : from_csv(options, text);
}

Result<std::shared_ptr<const Table>> load_table(const TableSettings& table) {
  std::error_code error;
  const auto size = std::filesystem::file_size(table.file, error);
  if (error) return Problem{"`" + table.file + "` cannot be read: " + error.message(), "", 0, 0};
  if (size > kLargestTable) return Problem{"`" + table.file + "` is larger than 256 MiB", "", 0, 0};
  std::ifstream in(table.file, std::ios::binary);
  std::string text(size, '\0');
  in.read(text.data(), static_cast<std::streamsize>(size));
  text.resize(static_cast<std::size_t>(in.gcount()));
  return read_table(table.options, text);
}

}  // namespace dingle
