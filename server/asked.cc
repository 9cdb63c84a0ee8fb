#include "server/asked.h"

#include <algorithm>
#include <chrono>
#include <utility>

#include "agent/json.h"
#include "agent/option_schema.h"
#include "core/nearest.h"
#include "core/time/instant.h"
#include "server/calls/call.h"

namespace dingle {
namespace {

constexpr std::size_t kMostItems = 100'000;  // of a list

bool is_list(OptionType type) { return type == OptionType::texts || type == OptionType::integers; }

Node scalar(std::string text, bool quoted) {
  Node node;
  node.form = Node::Form::scalar;
  node.scalar = std::move(text);
  node.quoted = quoted;
  return node;
}

// The node of a member; nothing if it has not the JSON type that its option takes.
std::optional<Node> node_of(const OptionSpec& spec, const Json& value) {
  const auto one = [&](const Json& item) -> std::optional<Node> {
    switch (spec.type) {
      case OptionType::integer:
      case OptionType::number64:
      case OptionType::integers:
        if (!item.is_number_integer()) return std::nullopt;
        return scalar(dump(item), false);
      case OptionType::boolean:
        if (!item.is_boolean()) return std::nullopt;
        return scalar(dump(item), false);
      default:
        if (!item.is_string()) return std::nullopt;
        return scalar(item.get<std::string>(), true);
    }
  };
  if (!is_list(spec.type)) return one(value);
  if (!value.is_array() || value.size() > kMostItems) return std::nullopt;
  Node list;
  list.form = Node::Form::list;
  for (const Json& item : value) {
    auto node = one(item);
    if (!node) return std::nullopt;
    list.items.push_back(std::move(*node));
  }
  return list;
}

const OptionSpec& known(const std::vector<OptionSpec>& specs, const std::string& name, const char* what) {
  const auto spec =
      std::find_if(specs.begin(), specs.end(), [&](const OptionSpec& s) { return name == s.name; });
  if (spec != specs.end()) return *spec;
  std::vector<std::string> names;
  for (const OptionSpec& s : specs) names.emplace_back(s.name);
  const std::string near = did_you_mean(name, names);
  throw Refused{api_error(400, std::string("unknown ") + what + " `" + name + "`",
                          !near.empty()   ? near
                          : names.empty() ? "this call takes none"
                                          : one_of(names),
                          name)};
}

// The line of a node is the number of its entry, by which a finding names it.
void add(Node& root, const std::string& name, Node value) {
  const auto entry =
      std::find_if(root.entries.begin(), root.entries.end(), [&](const auto& e) { return e.key == name; });
  value.place.line = static_cast<std::size_t>(entry - root.entries.begin()) + 1;
  for (Node& item : value.items) item.place.line = value.place.line;
  if (entry != root.entries.end())
    entry->value.items.push_back(std::move(value));
  else
    root.entries.push_back({name, value.place, std::move(value)});
}

void must_not_be_empty(const std::string& name, const std::string& value) {
  if (value.empty())
    throw Refused{api_error(400, "`" + name + "` is empty", "leave it out, if nothing is meant", name)};
}

Node of_parameters(const Call& call, const HttpRequest& request) {
  Node root;
  root.form = Node::Form::map;
  for (const auto& [name, value] : request.parameters) {
    const OptionSpec& spec = known(call.parameters, name, "parameter");
    must_not_be_empty(name, value);
    Node one = scalar(value, false);
    if (is_list(spec.type)) {
      Node list;
      list.form = Node::Form::list;
      if (root.find(name) == nullptr) add(root, name, std::move(list));
    } else if (root.find(name) != nullptr) {
      throw Refused{api_error(400, "`" + name + "` is given twice", "", name)};
    }
    add(root, name, std::move(one));
  }
  return root;
}

Node of_body(const Call& call, const HttpRequest& request) {
  Node root;
  root.form = Node::Form::map;
  if (request.body.empty() && !call.needs_body) return root;
  const Json body = parse_json(request.body);
  if (!body.is_object()) {
    std::string names;
    for (const OptionSpec& s : call.body) names += (names.empty() ? "`" : ", `") + std::string(s.name) + "`";
    throw Refused{api_error(400, "the body must be a JSON object", "its members: " + names)};
  }
  for (const auto& [name, value] : body.items()) {
    const OptionSpec& spec = known(call.body, name, "member");
    if (value.is_string()) must_not_be_empty(name, value.get<std::string>());
    auto node = node_of(spec, value);
    if (!node)
      throw Refused{api_error(
          400,
          "`" + name + "` takes " + option_type_name(spec.type) +
              (is_list(spec.type) && value.is_array() && value.size() > kMostItems ? ", 100000 at most" : ""),
          spec.text, name)};
    add(root, name, std::move(*node));
  }
  return root;
}

}  // namespace

void must_be_one_of(const std::vector<std::string>& names, const std::string& name, const char* what) {
  if (std::find(names.begin(), names.end(), name) != names.end()) return;
  const std::string near = did_you_mean(name, names);
  throw Refused{api_error(404, std::string("there is no ") + what + " `" + name + "`",
                          near.empty() ? one_of(names) : near, what)};
}

std::int64_t Asked::moment(const char* name, std::int64_t if_missing) const {
  return given(name) ? parse_moment(text(name), system_now()).value_or(if_missing) : if_missing;
}

Zone Asked::zone(const char* name) const {
  if (!given(name)) return Zone();
  auto zone = Zone::named(text(name));
  if (!zone) throw Refused{api_error(400, zone.problem().message, zone.problem().hint, name)};
  return *zone;
}

Condition Asked::where() const {
  if (!given("where")) return Condition();
  auto c = Condition::parse(text("where"));
  if (!c)
    throw Refused{api_error(400, c.problem().message, c.problem().hint, "where", c.problem().offset,
                            c.problem().length)};
  return std::move(*c);
}

Query Asked::chosen() const {
  Query q;
  q.where = where();
  q.from = moment("from", q.from);
  q.to = moment("to", q.to);
  q.indexes = texts("index");
  return q;
}

Query Asked::query() const {
  Query q = chosen();
  q.left = request.left;
  q.until = std::chrono::steady_clock::now() + std::chrono::nanoseconds(duration("within"));
  return q;
}

std::vector<OptionSpec> choice_options() {
  std::vector<OptionSpec> all = query_options();
  std::erase_if(all, [](const OptionSpec& o) { return std::string_view(o.name) == "within"; });
  return all;
}

const std::vector<OptionSpec>& query_options() {
  static const std::vector<OptionSpec> all{
      {.name = "where",
       .type = OptionType::condition,
       .text = "A search condition (docs/conditions.md). All events, if missing."},
      {.name = "from",
       .type = OptionType::moment,
       .text = "Event times from here on: RFC 3339, or how long ago (15m, 6h)."},
      {.name = "to", .type = OptionType::moment, .text = "Event times before this."},
      {.name = "index",
       .type = OptionType::texts,
       .text = "Names of indexes, `*` for any text; may be repeated. All, if missing."},
      {.name = "destination", .text = "Only the indexes of this destination."},
      {.name = "within",
       .type = OptionType::duration,
       .fallback = "60s",
       .text = "How long it may take. Then it answers what it has, of the newest, and `complete` is false.",
       .least = 1,
       .most = 600 * kSecond}};
  return all;
}

Asked read_asked(const Call& call, const HttpRequest& request) {
  const bool by_body = !call.body.empty();
  if (by_body && !request.parameters.empty()) known({}, request.parameters.begin()->first, "parameter");
  const auto& specs = by_body ? call.body : call.parameters;
  const Node root = by_body ? of_body(call, request) : of_parameters(call, request);
  for (const OptionSpec& spec : specs)
    if (spec.required && root.find(spec.name) == nullptr)
      throw Refused{api_error(400, std::string("`") + spec.name + "` is missing", spec.text, spec.name)};
  Findings findings("");
  Asked asked{request, Options::read(specs, root, call.path, findings)};
  if (!findings.all().empty()) {
    const Finding& wrong = findings.all().front();
    const std::string& name = root.entries[wrong.place.line - 1].key;
    throw Refused{
        api_error(400, wrong.message, wrong.hint.empty() ? known(specs, name, "").text : wrong.hint, name)};
  }
  if (const std::string path = call.path; path.find('{') != std::string::npos)
    asked.part = request.path.substr(path.find('{'));
  return asked;
}

Json schema_of_asked(const OptionSpec& o) {
  Json s;
  switch (o.type) {
    case OptionType::texts: s = {{"type", "array"}, {"items", {{"type", "string"}}}}; break;
    case OptionType::integers: s = {{"type", "array"}, {"items", {{"type", "integer"}}}}; break;
    case OptionType::integer:
      s = {{"type", "integer"}, {"minimum", o.least}};
      if (o.most != std::numeric_limits<std::int64_t>::max()) s["maximum"] = o.most;
      break;
    case OptionType::number64: s = {{"type", "integer"}, {"minimum", 0}}; break;
    case OptionType::boolean: s = {{"type", "boolean"}}; break;
    case OptionType::choice: s = {{"type", "string"}, {"enum", o.choices}}; break;
    case OptionType::duration: s = {{"type", "string"}, {"pattern", "^[0-9]+(ns|us|ms|s|m|h|d|w)$"}}; break;
    default: s = {{"type", "string"}, {"minLength", 1}};
  }
  add_default(s, o);
  return s;
}

}  // namespace dingle
