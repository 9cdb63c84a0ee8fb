// Reads of an event, as JSON, the members that are counted: quicker than as a tree.
#pragma once

#include <simdjson.h>

#include <string>
#include <string_view>

#include "tests/end_to_end/daemon.h"

namespace dingle {

class CountedEvent {
 public:
  // False if the text is no JSON object. What it had before is gone.
  bool read(std::string_view text) {
    slow_ = Json();
    if (parser_.parse(text.data(), text.size()).get(fast_) == simdjson::SUCCESS) return fast_.is_object();
    slow_ = Json::parse(text, nullptr, false);  // numbers that have no place in 64 bits
    return slow_.is_object();
  }
  bool has(const char* name) const {
    return slow_.is_object() ? slow_.contains(name) : fast_[name].error() == simdjson::SUCCESS;
  }
  std::string text(const char* name) const {
    std::string_view text;
    if (slow_.is_object()) return slow_.value(name, "");
    return fast_[name].get(text) == simdjson::SUCCESS ? std::string(text) : std::string();
  }
  long number(const char* name) const {
    std::int64_t n = -1;
    if (slow_.is_object()) return slow_.value(name, -1L);
    return fast_[name].get(n) == simdjson::SUCCESS ? static_cast<long>(n) : -1;
  }

 private:
  simdjson::dom::parser parser_;
  simdjson::dom::element fast_;
  Json slow_;
};

}  // namespace dingle
