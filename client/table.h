// Rows for people or for programs.
#pragma once

#include <string>
#include <vector>

#include "agent/json.h"
#include "client/command.h"
#include "core/options/findings.h"

namespace dingle {

struct Column {
  std::string key;    // of the row's object
  std::string title;  // for people
  enum class Look { text, count, bytes, time, seconds } look = Look::text;
  bool unwanted = false;  // a count that should be 0: others stand out
};

// Prints rows (JSON objects): as an aligned table, NDJSON, a JSON array, or CSV (RFC 4180). In a table
// wide columns of text are cut; of a table of numbers that is wider than the terminal columns are left out: those that are 0
// in all rows, then those of bytes.
void print_rows(const Client& client, const std::vector<Column>& columns, const std::vector<Json>& rows);

std::string with_thousands(std::int64_t number);  // 1 234 567
std::string counted(std::int64_t number, const char* one,
                    const char* more = "");                          // 1 line, 2 lines; more: not with s
std::size_t display_width(std::string_view text);                    // characters, not bytes
std::string cut_to_width(std::string_view text, std::size_t width);  // with … when something was cut
std::string cut_for(const Client& client, std::string_view text,
                    std::size_t width);       // the same, where it is cut at all
std::string one_line(std::string_view text);  // control characters shown, newlines as ⏎
std::string paint(const Client& client, const char* code, const std::string& text);  // nothing without colour
const char* field_color(std::size_t number);                                         // of fields, in turn
Painter painter(const Client& client);                                               // nullptr without colour
// A template whose captures stand out; broken into lines of `width` bytes with an indent, if it is not 0.
std::string coloured_template(const Client& client, const std::string& text, std::size_t width = 0,
                              std::size_t indent = 0);
std::string json_text(const Json& value);  // a string as it is, others as JSON
std::string csv_cell(const std::string& text);

}  // namespace dingle
