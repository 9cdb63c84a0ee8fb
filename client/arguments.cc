#include "client/arguments.h"

#include <CLI/CLI.hpp>

namespace dingle {

const Argument& Argument::required() const {
  option_->required();
  return *this;
}
const Argument& Argument::with_default() const {
  option_->capture_default_str();
  return *this;
}
const Argument& Argument::times(int least, int most) const {
  option_->expected(least, most);
  return *this;
}
const Argument& Argument::repeated() const {
  option_->expected(1)->take_all();
  return *this;
}
const Argument& Argument::separated_by(char separator) const {
  option_->delimiter(separator);
  return *this;
}

Argument Arguments::option(const std::string& names, std::string& into, const std::string& text) const {
  return Argument(app_->add_option(names, into, text));
}
Argument Arguments::option(const std::string& names, std::size_t& into, const std::string& text) const {
  return Argument(app_->add_option(names, into, text));
}
Argument Arguments::option(const std::string& names, std::vector<std::string>& into,
                           const std::string& text) const {
  return Argument(app_->add_option(names, into, text));
}
Argument Arguments::option(const std::string& names, std::vector<std::int64_t>& into,
                           const std::string& text) const {
  return Argument(app_->add_option(names, into, text));
}
void Arguments::flag(const std::string& names, bool& into, const std::string& text) const {
  app_->add_flag(names, into, text);
}
Arguments Arguments::command(const std::string& name, const std::string& text, const char* example) const {
  CLI::App* sub = app_->add_subcommand(name, text);
  sub->footer(std::string("Example:\n  ") + example);
  return Arguments(sub);
}
bool Arguments::given() const { return app_->parsed(); }

}  // namespace dingle
