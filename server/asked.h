// What a call was asked: its parameters, or the members of the JSON object in its body, read by the table of its registration.
#pragma once

#include <cstdint>
#include <string>
#include <vector>

#include "core/condition/condition.h"
#include "core/options/options.h"
#include "server/api.h"
#include "store/search.h"

namespace dingle {

struct Call;

// Thrown by whatever reads what was asked; becomes the answer.
struct Refused {
  HttpAnswer answer;
};

struct Asked {
  const HttpRequest& request;
  Options options;
  std::string part = {};  // what stands in the place of the braces of the call's path

  bool given(const char* name) const { return options.given(name); }
  const std::string& text(const char* name) const { return options.text(name); }
  const std::vector<std::string>& texts(const char* name) const { return options.texts(name); }
  bool flag(const char* name) const { return options.flag(name); }
  std::uint64_t number(const char* name) const { return static_cast<std::uint64_t>(options.number(name)); }
  std::int64_t duration(const char* name) const { return options.number(name); }  // ns
  std::int64_t moment(const char* name, std::int64_t if_missing) const;
  Zone zone(const char* name) const;  // UTC, if it was not asked; throws Refused
  // Throws Refused with the place in it that is wrong. All events, if it was not asked.
  Condition where() const;
  Query chosen() const;  // of choice_options()
  Query query() const;   // of query_options()
};

// Throws Refused (404) with the nearest name if it is none of them. `what`: of which kind they are, as the parameter is called.
void must_be_one_of(const std::vector<std::string>& names, const std::string& name, const char* what);
template <class All>
std::vector<std::string> names_of(const All& all) {
  std::vector<std::string> names;
  for (const auto& one : all) names.push_back(one.name);
  return names;
}

// The options of a call that asks the stores.
const std::vector<OptionSpec>& query_options();
std::vector<OptionSpec> choice_options();  // of them those that say which events are meant

// Throws Refused for what is unknown, missing, empty, of another type, or out of range.
Asked read_asked(const Call& call, const HttpRequest& request);

// The JSON Schema of an option as it stands in a body, or as a parameter.
Json schema_of_asked(const OptionSpec& option);

}  // namespace dingle
