// Names for the captures of a draft: from keys, from words beside the value, from the conventions of
// OpenTelemetry.
#pragma once

#include <set>
#include <string>
#include <string_view>

#include "core/draft/tokens.h"

namespace dingle {

class DraftNames {
 public:
  // `before`: the literal text that stands before the value since the last capture; `after`: what follows it.
  std::string name_for(const Token& token, std::string_view before, std::string_view after);
  bool taken(const std::string& name) const { return taken_.contains(name); }
  // The name itself, or with a number behind it when it is taken.
  std::string unique(const std::string& name);
  // What the conventions call a key ("pid" is process.pid); the key itself, made a field's name, for others.
  static std::string conventional(std::string_view key);

 private:
  std::set<std::string> taken_;
  std::string last_address_;  // the name of the address that was named last
};

}  // namespace dingle
