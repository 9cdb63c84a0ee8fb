// A configuration text as a tree, with the place of every part, free of the format it was written in.
#pragma once

#include <cstddef>
#include <string>
#include <string_view>
#include <utility>
#include <vector>

namespace dingle {

struct Place {
  std::size_t line = 0, column = 0;  // from 1; column in bytes; 0: unknown
};

struct Node {
  enum class Form { nothing, scalar, list, map };
  Form form = Form::nothing;
  std::string scalar;
  bool quoted = false;  // a quoted or block scalar: always text
  Place place;
  struct Entry;
  std::vector<Entry> entries;  // of a map, in the order written
  std::vector<Node> items;     // of a list

  const Node* find(std::string_view key) const;
  bool is_scalar() const { return form == Form::scalar; }
  bool is_list() const { return form == Form::list; }
  bool is_map() const { return form == Form::map; }
  const char* form_name() const {
    return is_scalar() ? "a single value" : is_list() ? "a list" : is_map() ? "a map" : "nothing";
  }
};

struct Node::Entry {
  std::string key;
  Place key_place;
  Node value;
};

inline const Node* Node::find(std::string_view key) const {
  for (const Entry& e : entries)
    if (e.key == key) return &e.value;
  return nullptr;
}

}  // namespace dingle
