#include "client/table.h"

#include <fmt/format.h>

#include <algorithm>
#include <iostream>

#include "client/terminal.h"
#include "client/times.h"
#include "core/options/options.h"

namespace dingle {

std::string with_thousands(std::int64_t number) {
  std::string digits = std::to_string(number < 0 ? -number : number);
  for (std::ptrdiff_t i = static_cast<std::ptrdiff_t>(digits.size()) - 3; i > 0; i -= 3)
    digits.insert(static_cast<std::size_t>(i), " ");
  return (number < 0 ? "-" : "") + digits;
}

std::string counted(std::int64_t number, const char* one, const char* more) {
  return with_thousands(number) + " " + (number == 1 ? one : *more ? more : one + std::string("s"));
}

std::size_t display_width(std::string_view text) {
  return static_cast<std::size_t>(std::count_if(
      text.begin(), text.end(), [](char c) { return (static_cast<unsigned char>(c) & 0xC0) != 0x80; }));
}

std::string cut_to_width(std::string_view text, std::size_t width) {
  if (display_width(text) <= width) return std::string(text);
  std::size_t i = 0;
  for (std::size_t n = 0; i < text.size(); ++i) {
    if ((static_cast<unsigned char>(text[i]) & 0xC0) == 0x80) continue;
    if (++n >= std::max<std::size_t>(width, 1)) break;
  }
  return std::string(text.substr(0, i)) + "…";
}

std::string cut_for(const Client& client, std::string_view text, std::size_t width) {
  return client.cuts ? cut_to_width(text, width) : std::string(text);
}

std::string one_line(std::string_view text) {
  std::string out;
  for (char c : visible(text)) {
    if (c == '\n')
      out += "⏎";
    else
      out += c == '\t' ? ' ' : c;
  }
  return out;
}

std::string paint(const Client& client, const char* code, const std::string& text) {
  return client.color ? color_mark(code) + text + color_mark("0") : text;
}

const char* field_color(std::size_t number) {
  constexpr const char* kColors[] = {"36", "33", "32", "35", "94", "96", "93", "92", "95"};
  return kColors[number % std::size(kColors)];
}

Painter painter(const Client& client) {
  if (!client.color) return nullptr;
  return [](const char* code, const std::string& text) { return color_mark(code) + text + color_mark("0"); };
}

std::string json_text(const Json& value) {
  return value.is_string() ? value.get<std::string>() : value.is_null() ? "" : dump(value);
}

std::string csv_cell(const std::string& text) {
  if (text.find_first_of("\",\r\n") == std::string::npos) return text;
  std::string out = "\"";
  for (char c : text) {
    if (c == '"') out += '"';
    out += c;
  }
  return out + '"';
}

namespace {

std::string shown(const Client& client, const Json& row, const Column& column) {
  auto it = row.find(column.key);
  if (it == row.end() || it->is_null()) return "";
  switch (column.look) {
    case Column::Look::count:
      return it->is_number_integer() ? with_thousands(it->get<std::int64_t>()) : one_line(json_text(*it));
    case Column::Look::bytes:
      return it->is_number() ? format_size(it->get<std::uint64_t>()) : one_line(json_text(*it));
    case Column::Look::seconds:
      return it->is_number() ? fmt::format("{:.2f} s", it->get<double>()) : one_line(json_text(*it));
    case Column::Look::time: return shown_time(client, json_text(*it));
    case Column::Look::text: break;
  }
  return one_line(json_text(*it));
}

// Columns of text before the last one are padded: they take half of the width at most, or kEnough. The last one is cut where
// the others leave it some room.
void fit(const std::vector<Column>& columns, std::size_t width, std::vector<std::size_t>& widths) {
  constexpr std::size_t kEnough = 60, kSome = 20;
  std::size_t others = 0;
  for (std::size_t i = 0; i + 1 < columns.size(); ++i) {
    if (columns[i].look == Column::Look::text) widths[i] = std::min(widths[i], std::max(kEnough, width / 2));
    others += widths[i] + 2;
  }
  if (columns.back().look == Column::Look::text && others + kSome < width)
    widths.back() = std::min(widths.back(), width - others);
}

bool is_nothing(const std::string& cell) { return cell.empty() || cell == "0" || cell == "0 B"; }

// What a narrow window has no room for: numbers that are 0 in all rows, then bytes; the last ones first.
void leave_out(std::vector<Column>& columns, std::vector<std::vector<std::string>>& cells,
               std::vector<std::size_t>& widths, std::size_t width) {
  using Look = Column::Look;
  const auto too_wide = [&] {
    std::size_t all = 0;
    for (std::size_t w : widths) all += w + 2;
    return all > width + 2;
  };
  for (const bool bytes : {false, true})
    for (std::size_t i = columns.size(); i-- > 0 && too_wide();) {
      const bool number = columns[i].look == Look::count || columns[i].look == Look::bytes;
      const bool zero =
          std::all_of(cells.begin(), cells.end(), [&](const auto& line) { return is_nothing(line[i]); });
      if (!number || !(bytes ? columns[i].look == Look::bytes : zero)) continue;
      const auto at = static_cast<std::ptrdiff_t>(i);
      columns.erase(columns.begin() + at);
      widths.erase(widths.begin() + at);
      for (auto& line : cells) line.erase(line.begin() + at);
    }
}

void print_table(const Client& client, std::vector<Column> columns, const std::vector<Json>& rows) {
  std::vector<std::vector<std::string>> cells;
  std::vector<std::size_t> widths;
  for (const Column& c : columns) widths.push_back(display_width(c.title));
  for (const Json& row : rows) {
    auto& line = cells.emplace_back();
    for (std::size_t i = 0; i < columns.size(); ++i) {
      line.push_back(shown(client, row, columns[i]));
      widths[i] = std::max(widths[i], display_width(line.back()));
    }
  }
  if (client.cuts && columns.back().look != Column::Look::text)
    leave_out(columns, cells, widths, client.width);
  if (client.cuts) fit(columns, client.width, widths);
  // Zeros step back, and what should be zero and is not stands out.
  auto painted = [&](const Column& column, const std::string& text) {
    if (column.look != Column::Look::count && column.look != Column::Look::bytes) return text;
    if (is_nothing(text)) return paint(client, "2", text);
    return column.unwanted ? paint(client, "33", text) : text;
  };
  auto line = [&](const std::vector<std::string>& texts, bool head) {
    std::string out;
    for (std::size_t i = 0; i < columns.size(); ++i) {
      const bool right = columns[i].look == Column::Look::count || columns[i].look == Column::Look::bytes ||
                         columns[i].look == Column::Look::seconds;
      std::string text = cut_to_width(texts[i], widths[i]);
      const std::string gap(widths[i] - std::min(widths[i], display_width(text)), ' ');
      text = head ? paint(client, "1", text) : painted(columns[i], text);
      if (right)
        out += gap + text;
      else
        out += i + 1 == columns.size() ? text : text + gap;
      if (i + 1 < columns.size()) out += "  ";
    }
    std::cout << out << "\n";
  };
  std::vector<std::string> titles;
  for (const Column& c : columns) titles.push_back(c.title);
  line(titles, true);
  for (const auto& cell : cells) line(cell, false);
}

}  // namespace

void print_rows(const Client& client, const std::vector<Column>& columns, const std::vector<Json>& rows) {
  switch (client.output) {
    case OutputForm::table: print_table(client, columns, rows); return;
    case OutputForm::ndjson:
      for (const Json& row : rows) std::cout << dump(row) << "\n";
      return;
    case OutputForm::json: std::cout << dump(Json(rows), 2) << "\n"; return;
    case OutputForm::csv: {
      for (std::size_t i = 0; i < columns.size(); ++i)
        std::cout << (i ? "," : "") << csv_cell(columns[i].key);
      std::cout << "\r\n";
      for (const Json& row : rows) {
        for (std::size_t i = 0; i < columns.size(); ++i)
          std::cout << (i ? "," : "")
                    << csv_cell(row.contains(columns[i].key) ? json_text(row[columns[i].key]) : "");
        std::cout << "\r\n";
      }
    }
  }
}

std::string coloured_template(const Client& client, const std::string& text, std::size_t width,
                              std::size_t indent) {
  // Which bytes are part of a capture or another form in braces.
  std::vector<bool> inside(text.size(), false);
  for (std::size_t i = 0; i < text.size();) {
    if (text[i] != '{' || text.compare(i, 2, "{{") == 0) {
      i += text.compare(i, 2, "{{") == 0 ? 2 : 1;
      continue;
    }
    const std::size_t slash = text.find(":/", i), brace = text.find('}', i);
    std::size_t close = slash < brace ? text.find("/}", slash) : brace;
    if (close != std::string::npos && slash < brace) ++close;
    close = std::min(close, text.size() - 1);
    for (std::size_t k = i; k <= close; ++k) inside[k] = true;
    i = close + 1;
  }
  std::string out;
  std::size_t column = 0;
  for (std::size_t i = 0; i < text.size();) {
    std::size_t end = i;
    while (end < text.size() && inside[end] == inside[i] && (width == 0 || column + (end - i) < width)) ++end;
    if (end == i) {
      out += "\n" + std::string(indent, ' ');
      column = 0;
      continue;
    }
    // Not within a character of several bytes.
    while (end < text.size() && (static_cast<unsigned char>(text[end]) & 0xC0) == 0x80) ++end;
    const std::string piece = text.substr(i, end - i);
    out += inside[i] ? paint(client, "36", piece) : piece;
    column += end - i;
    i = end;
  }
  return out;
}

}  // namespace dingle
