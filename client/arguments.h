// What a command takes from its command line. Keeps the library that reads it out of the commands' files.
#pragma once

#include <cstddef>
#include <cstdint>
#include <string>
#include <vector>

namespace CLI {
class App;
class Option;
}  // namespace CLI

namespace dingle {

// One option or argument; the calls narrow what it takes.
class Argument {
 public:
  explicit Argument(CLI::Option* option) : option_(option) {}
  const Argument& required() const;
  const Argument& with_default() const;  // its value now is shown as its default
  const Argument& times(int least, int most) const;
  const Argument& repeated() const;  // one value each time it is given, all are kept
  const Argument& separated_by(char separator) const;

 private:
  CLI::Option* option_;  // of the parser
};

// A command's arguments, or those of a command within it. The variables must live until the command ran.
class Arguments {
 public:
  explicit Arguments(CLI::App* app) : app_(app) {}
  // A name without dashes is that of an argument with a place of its own.
  Argument option(const std::string& names, std::string& into, const std::string& text) const;
  Argument option(const std::string& names, std::size_t& into, const std::string& text) const;
  Argument option(const std::string& names, std::vector<std::string>& into, const std::string& text) const;
  Argument option(const std::string& names, std::vector<std::int64_t>& into, const std::string& text) const;
  void flag(const std::string& names, bool& into, const std::string& text) const;
  Arguments command(const std::string& name, const std::string& text, const char* example) const;
  bool given() const;  // after parsing: it is the command that was called

 private:
  CLI::App* app_;  // of the parser
};

}  // namespace dingle
