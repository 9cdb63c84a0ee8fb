// Options as a reader of YAML would make them.
#pragma once

#include <string>
#include <utility>
#include <vector>

#include "core/options/options.h"

namespace dingle {

using Texts = std::vector<std::string>;

inline Node scalar(const std::string& text, bool quoted = true) {
  Node n;
  n.form = Node::Form::scalar;
  n.scalar = text;
  n.quoted = quoted;
  return n;
}
inline Node list(const std::vector<std::string>& texts) {
  Node n;
  n.form = Node::Form::list;
  for (const auto& t : texts) n.items.push_back(scalar(t));
  return n;
}
inline Node map(std::vector<std::pair<std::string, Node>> entries) {
  Node n;
  n.form = Node::Form::map;
  for (auto& [key, value] : entries) n.entries.push_back({key, {}, std::move(value)});
  return n;
}

}  // namespace dingle
