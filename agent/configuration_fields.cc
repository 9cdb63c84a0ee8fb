#include "agent/configuration_fields.h"

#include <algorithm>
#include <map>

#include "agent/namer.h"
#include "core/condition/meant.h"
#include "core/nearest.h"
#include "core/steps/fields_there.h"

namespace dingle {
namespace {

// The node within an option that is this field: an item, a key, a value, or all of it.
Node node_of(const Node& option, std::string_view field) {
  for (const Node& item : option.items)
    if (item.scalar == field) return item;
  for (const Node::Entry& entry : option.entries) {
    if (entry.key == field) {
      Node key;
      key.form = Node::Form::scalar;
      key.place = entry.key_place;
      key.scalar = entry.key;
      return key;
    }
    if (entry.value.is_scalar() && entry.value.scalar.find(field) != std::string::npos) return entry.value;
  }
  return option;
}

// What every event has.
const std::vector<std::string> kParts{"body",
                                      "timestamp",
                                      "observed_timestamp",
                                      "dingle.pipeline",
                                      "dingle.configuration",
                                      "dingle.template",
                                      "dingle.unmatched",
                                      "dingle.held",
                                      "dingle.unmatched.column"};

struct Told {
  std::string message, hint;
};

// What is there at one place, and who took away what was.
struct At {
  FieldsThere there;
  std::map<std::string, std::string, std::less<>> gone;  // field, and the step

  // Why nothing may be expected of the field; an empty message if something may.
  Told why_not(std::string_view field) const {
    const FieldsThere::Has has = there.has(field);
    if (has == FieldsThere::Has::yes || std::find(kParts.begin(), kParts.end(), field) != kParts.end())
      return {};
    const std::string name(field);
    std::vector<std::string> names = there.names();
    if (const auto it = gone.find(field); it != gone.end() && has == FieldsThere::Has::no)
      return {"no event has the field `" + name + "` here: " + it->second + " has taken it away",
              "use it before that"};
    names.insert(names.end(), kParts.begin(), kParts.end());
    const std::string near = did_you_mean(field, names);
    if (has == FieldsThere::Has::may)
      return near.empty()
                 ? Told()
                 : Told{"only the data may bring a field `" + name + "`: nothing else makes it", near};
    return {"no event has the field `" + name + "` here: nothing before makes it",
            near.empty() ? one_of(names) : near};
  }
};

std::string name_of_step(const Step& step) {
  return "step " + std::to_string(step.number) + " (`" + (step.name.empty() ? step.kind : step.name) + "`)";
}

class Follower {
 public:
  Follower(const Configuration& c, const std::vector<WrittenPipeline>& written, Findings& findings)
      : c_(c), written_(written), findings_(findings) {}

  void run() {
    ends_.resize(c_.flow.nodes.size());
    for (std::size_t i = 0; i < c_.flow.nodes.size(); ++i) node(i);
    for (const auto& [index, at] : comes_to_) destination(c_.destinations[index], at);
  }

 private:
  class OfStep final : public StepFields {
   public:
    OfStep(const At& before, const Options& options, Findings& findings)
        : before_(before), options_(options), findings_(findings) {
      there = before.there;
    }
    void reads(const char* option, std::string_view field) override {
      const Told told = before_.why_not(field);
      if (told.message.empty()) return;
      const Node node = node_of(options_.where(option), field);
      const std::size_t offset = node.scalar == field ? std::string::npos : place_in(node.scalar, field);
      if (offset == std::string::npos)
        findings_.warning(node, told.message, told.hint);
      else
        findings_.add_within(false, node, {told.message, told.hint, offset, field.size()});
    }

   private:
    const At& before_;
    const Options& options_;
    Findings& findings_;
  };

  void source(const SourceSettings& s, FieldsThere& to) {
    for (const auto& [field, text] : s.resource) to.add_of_resource(field);
    for (const char* field : s.kind->fields) to.add_of_resource(field);
  }

  At at_entry(const Flow::Node& node) {
    At at;
    for (const SourceSettings& s : c_.sources)
      if (node.leftovers || std::find(node.sources.begin(), node.sources.end(), s.name) != node.sources.end())
        source(s, at.there);
    for (const std::size_t before : node.from) at.there.join(ends_[before].there);
    return at;
  }

  void condition(const Condition* condition, const Node* written, const At& at) {
    if (condition == nullptr || written == nullptr) return;
    for (const FieldId field : condition->fields())
      if (const Told told = at.why_not(field_name(field)); !told.message.empty())
        tell(*written, field, told, false);
    kinds(*condition, *written, at);
  }
  // What is compared with a value that it never has.
  void kinds(const Condition& condition, const Node& written, const At& at) {
    for (const Condition::Bound& b : condition.bounds())
      if (const std::string wanted = wanted_of(at.there.kind_of(field_name(b.field)), b.literal);
          !wanted.empty())
        tell(written, b.field,
             {"`" + std::string(field_name(b.field)) + "` is " + wanted + ", and `" +
                  b.literal.value.to_string() + "` is none: this never holds",
              "compare it with " + wanted},
             false);
  }
  static std::string wanted_of(Kind kind, const Literal& literal) {
    if (!literal.value.is_textual()) return "";
    if ((kind == Kind::integer || kind == Kind::decimal) && !literal.number) return "a number";
    if (kind == Kind::ip && !literal.address) return "an address";
    if (kind == Kind::timestamp && !literal.instant) return "a time";
    return "";
  }
  void tell(const Node& written, FieldId field, const Told& told, bool is_error) {
    const std::string_view name = field_name(field);
    const std::size_t offset = place_in(written.scalar, name);
    const bool found = offset != std::string_view::npos;
    const std::string meant = is_error ? "" : text_meant(written.scalar, name);
    findings_.add_within(is_error, written,
                         {told.message, meant.empty() ? told.hint : meant, found ? offset : 0,
                          found ? name.size() : written.scalar.size()});
  }

  // What a pipeline takes is decided before its steps.
  void takes(const Pipeline& p, const Condition* condition, const char* option, const Options& options,
             const At& at, const std::map<std::string, std::string, std::less<>>& made_by) {
    const Node* written = options.node(option);
    if (condition == nullptr || written == nullptr) return;
    for (const FieldId field : condition->fields()) {
      const auto made = made_by.find(field_name(field));
      if (at.there.has(field_name(field)) == FieldsThere::Has::no && made != made_by.end())
        tell(*written, field,
             {"`" + std::string(field_name(field)) + "` is made by " + made->second + " of `" + p.name +
                  "`, and `" + option + "` is asked before that",
              std::string(option) == "where"
                  ? "behind that step put - drop: { where: \"not (...)\" }, or give `to` the condition"
                  : "behind that step put - drop: { where: \"...\" }"},
             true);
      else if (const Told told = at.why_not(field_name(field)); !told.message.empty())
        tell(*written, field, told, false);
    }
    kinds(*condition, *written, at);
  }

  // A severity has a number as soon as it is there.
  static void number(FieldsThere& there) {
    if (there.has("severity") != FieldsThere::Has::no) there.add("severity_number");
  }

  void node(std::size_t index) {
    const Flow::Node& n = c_.flow.nodes[index];
    const Pipeline& p = *n.pipeline;
    const WrittenPipeline& written = written_[n.number];
    const At entry = at_entry(n);
    At at = entry;
    number(at.there);
    std::map<std::string, std::string, std::less<>> made_by;
    for (std::size_t s = 0; s < std::min(p.steps.size(), written.steps.size()); ++s) {
      const Step& step = *p.steps[s];
      condition(step.where.get(), written.steps[s].node("where"), at);
      OfStep of(at, written.steps[s], findings_);
      step.follow(of);
      for (const std::string& name : of.there.names()) {
        if (at.there.has(name) != FieldsThere::Has::yes) made_by.emplace(name, name_of_step(step));
        at.gone.erase(name);
      }
      if (step.where) {
        of.there.join(at.there);  // those for which it does not hold are as before
      } else {
        for (const std::string& name : at.there.names())
          if (of.there.has(name) != FieldsThere::Has::yes) at.gone.emplace(name, name_of_step(step));
      }
      at.there = of.there;
      number(at.there);
    }
    At before = entry;
    for (const SourceSettings& s : c_.sources)
      if (s.header() != nullptr && std::find(n.sources.begin(), n.sources.end(), s.name) != n.sources.end())
        for (const FieldColumn& column : s.header()->columns()) before.there.add(column.name, column.kind);
    number(before.there);
    takes(p, p.where.get(), "where", written.options, before, made_by);
    takes(p, p.unless.get(), "unless", written.options, before, made_by);
    routes(n, written, at);
    ends_[index] = at;
  }

  void routes(const Flow::Node& n, const WrittenPipeline& written, const At& at) {
    const Node* to = written.options.node("to");
    if (to == nullptr) return;
    const std::vector<Node> one{*to};
    for (const Node& item : to->is_list() ? to->items : one)
      for (const Node::Entry& entry : item.entries)
        for (const Route& route : c_.pipelines[n.number].to)
          if (route.destination == entry.key) condition(route.where.get(), &entry.value, at);
    for (const Flow::Output& output : n.outputs) comes_to_[output.destination].there.join(at.there);
  }

  // Names that are made of fields: of indexes, files, tables.
  void destination(const DestinationSettings& d, const At& at) {
    if (!d.namer) return;
    for (const FieldId field : d.namer->fields()) {
      const Told told = at.why_not(field_name(field));
      if (told.message.empty()) continue;
      for (const OptionSpec& option : d.kind->spec.options) {
        const Node* node = d.options.node(option.name);
        const std::string in_braces = "{" + std::string(field_name(field)) + "}";
        if (node == nullptr || !node->is_scalar()) continue;
        if (const std::size_t offset = node->scalar.find(in_braces); offset != std::string::npos)
          findings_.add_within(false, *node, {told.message, told.hint, offset + 1, in_braces.size() - 2});
      }
    }
  }

  const Configuration& c_;
  const std::vector<WrittenPipeline>& written_;
  Findings& findings_;
  std::vector<At> ends_;                // by node: behind its last step
  std::map<std::size_t, At> comes_to_;  // by destination
};

// Events that two pipelines make of the same lines alike.
void warn_of_doubles(const Configuration& c, const std::vector<WrittenPipeline>& written,
                     Findings& findings) {
  const auto takes_all = [](const Flow::Node& n) {
    const auto& steps = n.pipeline->steps;
    return !n.pipeline->where && !n.pipeline->unless &&
           std::none_of(steps.begin(), steps.end(),
                        [](const auto& s) { return s->with_memory() != nullptr; });
  };
  std::map<std::pair<std::string, std::size_t>, const Flow::Node*> first;
  for (const Flow::Node& n : c.flow.nodes) {
    if (!takes_all(n)) continue;
    for (const std::string& source : n.sources)
      for (const Flow::Output& output : n.outputs) {
        if (output.where || !c.destinations[output.destination].kind->stores) continue;
        const auto [it, added] = first.emplace(std::pair(source, output.destination), &n);
        const std::string& name = c.destinations[output.destination].name;
        const Node* to = written[n.number].options.node("to");
        if (!added && it->second != &n && to != nullptr)
          findings.warning(node_of(*to, name),
                           "`" + it->second->pipeline->name + "` sends all lines of `" + source + "` to `" +
                               name + "` too: each is stored twice",
                           "give one of the two a `where`, or take one out of its `to`");
      }
  }
}

}  // namespace

void follow_fields(const Configuration& configuration, const std::vector<WrittenPipeline>& written,
                   Findings& findings) {
  Follower(configuration, written, findings).run();
  warn_of_doubles(configuration, written, findings);
}

}  // namespace dingle
