// The commands of `dingle`. A command is one file that registers itself; `main.cc` only gathers them.
#pragma once

#include <functional>
#include <memory>
#include <string>
#include <vector>

#include "client/arguments.h"
#include "core/time/zone.h"

namespace dingle {

// Exit statuses.
inline constexpr int kFine = 0;
inline constexpr int kFoundProblems = 1;
inline constexpr int kUsage = 2;

enum class OutputForm { table, ndjson, json, csv };

// What every command is given.
struct Client {
  OutputForm output = OutputForm::table;
  bool color = false;
  std::size_t width = 100;          // columns of the terminal
  Zone zone;                        // of the times that are shown and asked for
  bool cuts = true;                 // what is wider than that; false where nobody looks at a terminal
  std::string data, server, token;  // token: a file
};

struct CommandRegistration {
  // `add` makes the subcommand and returns what runs it.
  using Add = std::function<int(Client&)> (*)(const Arguments& app);
  CommandRegistration(const char* name, const char* text, const char* example, bool has_output, Add add);
};

struct CommandSpec {
  const char* name;
  const char* text;
  const char* example;
  bool has_output;  // takes --output
  CommandRegistration::Add add;
};
const std::vector<CommandSpec>& commands();  // by name

// Reads a file, or standard input for "-". False with a message on standard error.
bool read_input(const std::string& path, std::string& text);

}  // namespace dingle
