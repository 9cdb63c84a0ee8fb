#include "agent/yaml.h"

#include <yaml-cpp/yaml.h>

#include <set>

namespace dingle {
namespace {

constexpr std::size_t kMostNodes = 100'000;
constexpr std::size_t kDeepest = 64;

Place place_of(const YAML::Mark& mark) {
  if (mark.is_null()) return {};
  return {static_cast<std::size_t>(mark.line) + 1, static_cast<std::size_t>(mark.column) + 1};
}

class Converter {
 public:
  explicit Converter(Findings& findings) : findings_(findings) {}

  Node convert(const YAML::Node& yaml, std::size_t depth) {
    Node node;
    node.place = place_of(yaml.Mark());
    if (++count_ > kMostNodes || depth > kDeepest) {
      if (!stopped_)
        findings_.error(node.place, 1,
                        count_ > kMostNodes ? "the configuration has more than 100000 parts"
                                            : "the configuration is nested deeper than 64 levels",
                        "are there aliases within aliases?");
      stopped_ = true;
      return node;
    }
    switch (yaml.Type()) {
      case YAML::NodeType::Undefined:
      case YAML::NodeType::Null: break;
      case YAML::NodeType::Scalar:
        node.form = Node::Form::scalar;
        node.scalar = yaml.Scalar();
        node.quoted = yaml.Tag() == "!";  // how the library marks scalars that were not plain
        break;
      case YAML::NodeType::Sequence:
        node.form = Node::Form::list;
        for (const auto& item : yaml) {
          if (stopped_) break;
          node.items.push_back(convert(item, depth + 1));
        }
        break;
      case YAML::NodeType::Map: {
        node.form = Node::Form::map;
        std::set<std::string> seen;
        for (const auto& entry : yaml) {
          if (stopped_) break;
          Place key_place = place_of(entry.first.Mark());
          if (!entry.first.IsScalar()) {
            findings_.error(key_place, 1, "a key must be a single value");
            continue;
          }
          const std::string key = entry.first.Scalar();
          if (!seen.insert(key).second) {
            findings_.error(key_place, key.size(), "the key `" + key + "` occurs twice here",
                            "the second one would hide the first");
            continue;
          }
          node.entries.push_back({key, key_place, convert(entry.second, depth + 1)});
        }
      }
    }
    return node;
  }

 private:
  Findings& findings_;
  std::size_t count_ = 0;
  bool stopped_ = false;
};

}  // namespace

Node read_yaml(std::string_view text, Findings& findings) {
  try {
    return Converter(findings).convert(YAML::Load(std::string(text)), 0);
  } catch (const YAML::Exception& error) {  // the library's way to report a syntax error
    findings.error(place_of(error.mark), 1, "this is not valid YAML: " + error.msg,
                   "is the indentation right, and are quotes and brackets closed?");
    return {};
  }
}

}  // namespace dingle
