// What a check of a configuration found: errors and warnings with their places.
#pragma once

#include <algorithm>
#include <string>
#include <string_view>
#include <vector>

#include "core/options/node.h"
#include "core/result.h"

namespace dingle {

struct Finding {
  bool is_error = true;
  Place place;
  std::size_t length = 1;  // bytes from the place that are meant
  std::string message;
  std::string hint;
};

class Findings {
 public:
  // `source`: the text that the nodes were read from; used to find places within scalars. Not owned.
  explicit Findings(std::string_view source) : source_(source) {}
  void error(Place place, std::size_t length, std::string message, std::string hint = "") {
    all_.push_back({true, place, length, std::move(message), std::move(hint)});
  }
  void warning(Place place, std::size_t length, std::string message, std::string hint = "") {
    all_.push_back({false, place, length, std::move(message), std::move(hint)});
  }
  void error(const Node& node, std::string message, std::string hint = "") {
    error(node.place, node_length(node), std::move(message), std::move(hint));
  }
  void warning(const Node& node, std::string message, std::string hint = "") {
    warning(node.place, node_length(node), std::move(message), std::move(hint));
  }
  // A problem within the text of a scalar (a template, a condition): placed where that part stands in the
  // source.
  void error_within(const Node& scalar, const Problem& problem) { add_within(true, scalar, problem); }
  void add_within(bool is_error, const Node& scalar, const Problem& problem);

  const std::vector<Finding>& all() const { return all_; }
  std::size_t errors() const;
  void sort();  // by place

 private:
  static std::size_t node_length(const Node& node) {
    return node.is_scalar() ? std::max<std::size_t>(1, node.scalar.size() + 2 * node.quoted) : 1;
  }
  std::string_view source_;
  std::vector<Finding> all_;
};

// One finding for a person:
//   dingle.yaml:12:9: error: unknown option `feild`
//     12 |         feild: at
//        |         ^~~~~
//        = did you mean `field`?
// Long lines are shown in part, `width` columns in all. `paint` puts codes of colour (ECMA-48, "SGR") around
// a text; nullptr: no colour.
using Painter = std::string (*)(const char* code, const std::string& text);
std::string render(const Finding& finding, std::string_view file, std::string_view source,
                   Painter paint = nullptr, std::size_t width = 100);

}  // namespace dingle
