#include "agent/configuration.h"

#include <fmt/format.h>
#include <xxhash.h>

#include <algorithm>
#include <mutex>
#include <set>

#include "agent/configuration_fields.h"
#include "agent/configuration_flow.h"
#include "agent/configuration_hiding.h"
#include "agent/configuration_parts.h"
#include "agent/sealing.h"
#include "agent/yaml.h"
#include "core/nearest.h"
#include "core/template/template.h"

namespace dingle {

const SourceSettings* Configuration::source(std::string_view name) const {
  for (const auto& s : sources)
    if (s.name == name) return &s;
  return nullptr;
}
const DestinationSettings* Configuration::destination(std::string_view name) const {
  for (const auto& d : destinations)
    if (d.name == name) return &d;
  return nullptr;
}

namespace {

void write_node(const Node& node, std::string& out) {
  out += node.form_name()[2];
  out += node.scalar + "\x1f";
  for (const auto& e : node.entries) out += e.key + "\x1e", write_node(e.value, out);
  for (const auto& i : node.items) write_node(i, out);
  out += "\x1d";
}

class Reader {
 public:
  Reader(std::string_view text, Findings& findings, const Configuration* sent_beside = nullptr)
      : text_(text),
        findings_(findings),
        sent_beside_(sent_beside),
        result_(std::make_shared<Configuration>()),
        patterns_(std::make_shared<PatternLibrary>()) {}

  std::shared_ptr<const Configuration> read() {
    Node root = read_yaml(text_, findings_);
    if (findings_.errors() != 0) return nullptr;
    if (!root.is_map()) {
      findings_.error(
          Place{1, 1}, 1,
          root.form == Node::Form::nothing ? "the configuration is empty" : "the configuration must be a map",
          "it begins with `version: 1`");
      return nullptr;
    }
    static const std::vector<std::string> kKeys{"version", "server",    "patterns",    "tables",
                                                "sources", "pipelines", "destinations"};
    for (const auto& entry : root.entries)
      if (std::find(kKeys.begin(), kKeys.end(), entry.key) == kKeys.end()) {
        std::string near = did_you_mean(entry.key, kKeys);
        findings_.error(entry.key_place, entry.key.size(), "unknown key `" + entry.key + "`",
                        near.empty() ? one_of(kKeys) : near);
      }
    const Node* version = root.find("version");
    if (version == nullptr)
      findings_.error(root.place, 1, "the configuration does not say its version", "add `version: 1`");
    else if (!version->is_scalar() || version->scalar != "1")
      findings_.error(*version, "this program reads version 1 of the format, found `" + version->scalar + "`",
                      "write `version: 1`");
    const Node empty;
    auto section = [&](const char* key) -> const Node& {
      const Node* n = root.find(key);
      return n ? *n : empty;
    };
    result_->server = Options::read(server_options(), section("server"), "server", findings_);
    server(result_->server);
    patterns(section("patterns"));
    each(section("tables"), "tables", [&](const Node::Entry& e) { table(e); });
    const TableScope scope(result_->tables_by_name);
    each(section("sources"), "sources", [&](const Node::Entry& e) { source(e); });
    each(section("destinations"), "destinations", [&](const Node::Entry& e) { destination(e); });
    each(section("pipelines"), "pipelines", [&](const Node::Entry& e) { pipeline(e); });
    joined();
    memory(section("pipelines"));
    noted_tables(section("tables"));
    check_hiding(*result_, section("pipelines"), findings_);
    check_metrics(*result_, section("pipelines"), findings_);
    former_names(section("sources"), "source");
    former_names(section("destinations"), "destination");
    former_names(section("pipelines"), "pipeline");
    unused(section("sources"), section("destinations"), section("patterns"));
    if (findings_.errors() == 0 && result_->sources.empty())
      findings_.error(root.place, 1, "the configuration has no sources", "add `sources:` with at least one");
    findings_.sort();
    if (findings_.errors() != 0) return nullptr;
    result_->patterns = patterns_;
    result_->text = text_;
    result_->version = version_of(text_);
    return result_;
  }

 private:
  void server(const Options& o) {
    const Options& tls = o.section("tls");
    if (tls.given("certificate") != tls.given("key"))
      findings_.error(o.where("tls"), "`tls` needs both `certificate` and `key`");
    if (const std::string problem = listen_problem(o); !problem.empty())
      findings_.error(o.where("listen"), problem,
                      "add tls: { certificate: FILE, key: FILE }, or listen on 127.0.0.1");
  }

  StepMaking::SealingOf sealing() const {
    if (sent_beside_ == nullptr) return sealing_with;
    return [](const std::string&) { return sealing_made_up(); };
  }

  void table(const Node::Entry& e) {
    std::string written;
    write_node(e.value, written);
    read_table_of(e, std::move(written), *result_, findings_, sent_beside_);
  }

  template <class Work>
  void each(const Node& section, const char* key, Work work) {
    if (section.form != Node::Form::nothing && !section.is_map())
      findings_.error(section,
                      std::string("`") + key + "` takes a map of names, found " + section.form_name());
    for (const Node::Entry& e : section.entries) {
      if (!is_field_name(e.key))
        findings_.error(e.key_place, e.key.size(), "`" + e.key + "` is not a name",
                        "use letters, digits, `_`, `-` and `.`, with a letter or `_` first");
      else if (e.key == Flow::kLeftovers &&
               (key == std::string("sources") || key == std::string("pipelines")))
        findings_.error(e.key_place, e.key.size(), "`leftovers` cannot be a name here",
                        "in a pipeline's `from` it stands for the lines that no pipeline takes");
      else
        work(e);
    }
  }

  // Finds which kind a component is of: the one key that is not a common option.
  template <class Kind>
  const Node::Entry* kind_of(const Node::Entry& e, const char* what, const std::vector<const Kind*>& kinds,
                             const std::vector<OptionSpec>& common) {
    std::vector<std::string> names, keys;
    for (const Kind* kind : kinds) names.push_back(kind->spec.name);
    for (const OptionSpec& o : common) keys.push_back(o.name);
    if (!e.value.is_map()) {
      findings_.error(e.key_place, e.key.size(),
                      std::string("the ") + what + " `" + e.key + "` does not say its kind", one_of(names));
      return nullptr;
    }
    const Node::Entry* found = nullptr;
    for (const Node::Entry& option : e.value.entries) {
      if (std::find(keys.begin(), keys.end(), option.key) != keys.end()) continue;
      if (std::find(names.begin(), names.end(), option.key) == names.end()) {
        std::vector<std::string> all = names;
        all.insert(all.end(), keys.begin(), keys.end());
        std::string near = did_you_mean(option.key, all);
        findings_.error(option.key_place, option.key.size(),
                        "unknown key `" + option.key + "` in the " + what + " `" + e.key + "`",
                        near.empty() ? one_of(all) : near);
        return nullptr;
      }
      if (found) {
        findings_.error(option.key_place, option.key.size(),
                        std::string("the ") + what + " `" + e.key + "` is of two kinds: `" + found->key +
                            "` and `" + option.key + "`",
                        "make it two");
        return nullptr;
      }
      found = &option;
    }
    if (!found)
      findings_.error(e.key_place, e.key.size(),
                      std::string("the ") + what + " `" + e.key + "` does not say its kind", one_of(names));
    return found;
  }

  void patterns(const Node& section) {
    std::vector<const Node::Entry*> entries;
    each(section, "patterns", [&](const Node::Entry& e) { entries.push_back(&e); });
    read_patterns(entries, *patterns_, findings_);
    write_node(section, written_patterns_);
  }

  void source(const Node::Entry& e) {
    declared_sources_.push_back(e.key);
    const Node::Entry* kind_entry = kind_of(e, "source", source_kinds(), source_options());
    if (!kind_entry) return;
    SourceSettings s;
    s.name = e.key;
    s.kind = source_kind(kind_entry->key);
    Options common = Options::read(source_options(), e.value, e.key, findings_, {kind_entry->key});
    s.was = common.text("was");
    for (const auto& field : common.tree("resource").entries)
      s.resource.emplace_back(field.key, field.value.scalar);
    if (auto zone = Zone::named(common.text("zone")))
      s.zone = *zone;
    else
      findings_.error_within(common.where("zone"), zone.problem());
    s.options = Options::read(s.kind->spec.options, kind_entry->value, kind_entry->key, findings_);
    if (s.options.sound() && s.kind->prepare)
      s.prepared = s.kind->prepare({s.options, *patterns_, findings_});
    write_node(e.value, s.written);
    if (s.prepared) s.written += written_patterns_;
    result_->sources.push_back(std::move(s));
  }

  void destination(const Node::Entry& e) {
    declared_destinations_.push_back(e.key);
    const Node::Entry* kind_entry = kind_of(e, "destination", destination_kinds(), destination_options());
    if (!kind_entry) return;
    DestinationSettings d;
    d.name = e.key;
    d.kind = destination_kind(kind_entry->key);
    d.common = Options::read(destination_options(), e.value, e.key, findings_, {kind_entry->key});
    d.was = d.common.text("was");
    d.options = Options::read(d.kind->spec.options, kind_entry->value, kind_entry->key, findings_);
    if (d.options.sound() && d.kind->prepare) d.namer = d.kind->prepare({d.options, *patterns_, findings_});
    write_node(e.value, d.written);
    result_->destinations.push_back(std::move(d));
  }

  void references(const std::vector<Named>& all, const std::vector<std::string>& declared, const char* what,
                  std::set<std::string>& used) {
    std::set<std::string> before;
    for (const auto& [name, at] : all) {
      used.insert(name);
      if (std::find(declared.begin(), declared.end(), name) == declared.end()) {
        std::string near = did_you_mean(name, declared);
        used.insert(nearest(name, declared));  // most likely what was meant: no second finding about it
        findings_.error(
            at, std::string("there is no ") + what + " `" + name + "`",
            near.empty() ? (declared.empty() ? std::string("none is defined") : one_of(declared)) : near);
      }
      if (!before.insert(name).second) findings_.error(at, "`" + name + "` is named twice", "remove one");
    }
  }
  static std::vector<Named> named(const Options& o, const char* option) {
    std::vector<Named> all;
    const Node* node = o.node(option);
    const std::vector<std::string>& names = o.texts(option);
    for (std::size_t i = 0; i < names.size(); ++i)
      all.push_back({names[i], node->is_list() ? node->items[i] : *node});
    return all;
  }

  // The destinations of a pipeline, with their conditions.
  std::vector<Route> routes(const Options& o) {
    std::vector<Route> all;
    std::vector<Named> names;
    const Node* node = o.node("to");
    if (node == nullptr || o.texts("to").empty()) return all;
    const std::vector<Node> one{*node};
    for (const Node& item : node->is_list() ? node->items : one) {
      if (item.is_scalar()) {
        names.push_back({item.scalar, item});
        all.push_back({item.scalar, nullptr});
        continue;
      }
      for (const Node::Entry& entry : item.entries) {
        Node key;
        key.form = Node::Form::scalar;
        key.place = entry.key_place;
        key.scalar = entry.key;
        names.push_back({entry.key, key});
        auto parsed = Condition::parse(entry.value.scalar);
        if (!parsed) findings_.error_within(entry.value, parsed.problem());
        all.push_back({entry.key, parsed ? std::make_shared<const Condition>(std::move(*parsed)) : nullptr});
      }
    }
    references(names, declared_destinations_, "destination", used_destinations_);
    return all;
  }

  std::unique_ptr<Condition> condition(const Options& o, const char* option) {
    const Node* node = o.node(option);
    if (!node) return nullptr;
    auto parsed = Condition::parse(o.text(option));
    if (parsed) return std::make_unique<Condition>(std::move(*parsed));
    findings_.error_within(*node, parsed.problem());
    return nullptr;
  }

  void pipeline(const Node::Entry& e) {
    Options o = Options::read(pipeline_options(), e.value, e.key, findings_, {"steps"});
    const Node* to_node = e.value.is_map() ? e.value.find("to") : nullptr;
    const bool has_to =
        to_node && !(to_node->items.empty() && to_node->entries.empty() && to_node->scalar.empty());
    taking_.push_back({named(o, "from"), &e, has_to});
    std::vector<Route> to = routes(o);
    written_.push_back({o, {}});
    auto p = std::make_shared<Pipeline>();
    p->name = e.key;
    p->where = condition(o, "where");
    p->unless = condition(o, "unless");
    const Node empty;
    const Node* steps = e.value.find("steps");
    if (steps && steps->form != Node::Form::nothing && !steps->is_list())
      findings_.error(*steps, "`steps` takes a list of steps, found " + std::string(steps->form_name()),
                      "put `- ` before each");
    std::string stopped;
    for (const Node& item : steps ? steps->items : empty.items) {
      if (!stopped.empty()) {
        findings_.warning(item, "no event reaches this step: " + stopped,
                          "remove it, or give the step before a condition");
        stopped.clear();
      }
      step(item, *p);
      if (!p->steps.empty() && p->steps.back())
        if (std::string why = p->steps.back()->stops_everything(); !why.empty())
          stopped = "`" + p->steps.back()->kind + "` above: " + why;
    }
    step_names(steps ? *steps : empty, *p);
    settle_hiding(o, result_->server, steps ? *steps : empty, *p, findings_, sealing());
    result_->pipelines.push_back(
        {e.key, o.text("was"), p, std::move(to), p->hides() ? hiding_of(e, steps ? *steps : empty, *p) : ""});
  }

  static std::string hiding_of(const Node::Entry& e, const Node& steps, const Pipeline& p) {
    std::string all;
    for (const char* option : {"from", "where", "unless", "unparsed"})
      if (const Node* node = e.value.find(option)) (all += option) += '=', write_node(*node, all);
    std::size_t last = 0;
    for (std::size_t i = 0; i < p.steps.size(); ++i)
      if (p.steps[i] && p.steps[i]->hides() != nullptr) last = i + 1;
    for (std::size_t i = 0; i < std::min(last, steps.items.size()); ++i) write_node(steps.items[i], all);
    return all;
  }

  // What pipelines take from is known when all of them are.
  void joined() {
    const std::string leftovers(Flow::kLeftovers);
    std::vector<std::string> declared = declared_sources_;
    for (const TakesFrom& taking : taking_) declared.push_back(taking.entry->key);
    declared.push_back(leftovers);
    for (const TakesFrom& taking : taking_)
      references(taking.from, declared, "source or pipeline", used_sources_);
    result_->flow = read_flow(*result_, declared_sources_, taking_, findings_);
    if (findings_.errors() == 0) follow_fields(*result_, written_, findings_);
  }

  void step(const Node& item, Pipeline& pipeline) {
    std::vector<std::string> names;
    for (const StepKind& kind : step_kinds()) names.push_back(kind.spec.name);
    if (item.is_scalar() && step_kind(item.scalar)) {  // `- json`: all options at their defaults
      Node as_map;
      as_map.form = Node::Form::map;
      as_map.place = item.place;
      as_map.entries.push_back({item.scalar, item.place, Node{}});
      as_map.entries[0].value.place = item.place;
      return step(as_map, pipeline);
    }
    if (!item.is_map() || item.entries.size() != 1)
      return findings_.error(
          item,
          "a step is a map with one key, the step's name, found " +
              std::string(item.is_map() ? "several keys" : item.form_name()),
          item.is_map() ? "are the step's options indented deeper than its name?" : one_of(names));
    const Node::Entry& e = item.entries[0];
    const StepKind* kind = step_kind(e.key);
    if (!kind) {
      std::string near = did_you_mean(e.key, names);
      return findings_.error(e.key_place, e.key.size(), "unknown step `" + e.key + "`",
                             near.empty() ? one_of(names) : near);
    }
    Node value = e.value;
    if (!value.place.line) value.place = e.key_place;
    if (value.form == Node::Form::nothing) value.place = e.key_place;
    Options o = Options::read(kind->spec.options, value, e.key, findings_);
    auto where = condition(o, "where");
    if (!o.sound()) return;
    auto made = kind->make({o, *patterns_, findings_, sealing()});
    if (!made) return;
    if (o.flag("off")) made = std::make_unique<OffStep>();
    made->kind = e.key;
    made->leaves_alerts =
        kind->leaves_alerts && (!where || where->text().find("dingle.alert") == std::string::npos);
    made->where = std::move(where);
    made->name = o.text("name");
    if (made->with_memory()) made->was = o.text("was");
    pipeline.add(std::move(made));
    written_.back().steps.push_back(std::move(o));
  }

  void step_names(const Node& steps, const Pipeline& pipeline) {
    std::set<std::string> taken, remembering, former;
    for (const Node& item : steps.items) {
      if (!item.is_map() || item.entries.size() != 1 || !item.entries[0].value.is_map()) continue;
      const Node* name = item.entries[0].value.find("name");
      if (name != nullptr && name->is_scalar() && !name->scalar.empty() && !taken.insert(name->scalar).second)
        findings_.error(*name, "two steps of `" + pipeline.name + "` have the name `" + name->scalar + "`",
                        "steps may have names so that they are told apart");
    }
    // What they remember is kept by their names.
    for (const auto& step : pipeline.steps)
      if (step->with_memory() && !remembering.insert(step->name.empty() ? step->kind : step->name).second)
        findings_.error(steps,
                        "two steps of `" + pipeline.name + "` with memory go by the name `" +
                            (step->name.empty() ? step->kind : step->name) + "`",
                        "give each a `name` of its own: what they remember is kept by it");
    for (const auto& step : pipeline.steps) {
      if (step->was.empty()) continue;
      if (remembering.count(step->was))
        findings_.error(
            steps, "`was: " + step->was + "` names a step of `" + pipeline.name + "` that is still there",
            "it is for a step that got another name");
      else if (!former.insert(step->was).second)
        findings_.error(steps, "`was: " + step->was + "` stands twice in `" + pipeline.name + "`",
                        "one takes it over");
    }
  }

  // All of it stands at the beginning of each segment of the spool.
  void memory(const Node& pipelines) {
    constexpr std::uint64_t kMost = 128u << 20;
    std::uint64_t bytes = 0;
    for (const Flow::Turnstile& t : result_->flow.turnstiles) bytes += result_->flow.step_of(t).most_bytes();
    if (bytes > kMost)
      findings_.error(pipelines,
                      "steps with memory may take " + format_size(bytes) + " together, and at most " +
                          format_size(kMost) + " are possible",
                      "lower `most_bytes` of `fold` and `note`, or `most_keys` of `unique`");
  }

  // What fills tables: one step each.
  void noted_tables(const Node& tables) {
    std::map<const TableHandle*, std::string> by;
    for (const Flow::Turnstile& t : result_->flow.turnstiles) {
      const TableHandle* table = result_->flow.step_of(t).fills();
      if (table == nullptr) continue;
      const std::string& pipeline = result_->flow.nodes[t.node].pipeline->name;
      if (const auto [other, added] = by.emplace(table, pipeline); !added)
        findings_.error(tables,
                        "two steps fill the table `" + table->name() + "`: in `" + other->second +
                            "` and in `" + pipeline + "`",
                        "one of them, in a pipeline that takes from both");
    }
    for (const auto& [name, table] : result_->tables_by_name)
      if (table->form == TableHandle::Form::noted && !by.contains(table.get()))
        findings_.warning(tables, "no step fills the table `" + name + "`",
                          "note: { table: " + name + ", by: FIELD }");
  }

  void former_names(const Node& entries, const char* what) {
    std::set<std::string> taken;
    for (const auto& e : entries.entries) {
      const Node* was = e.value.is_map() ? e.value.find("was") : nullptr;
      if (was && was->scalar.empty())
        findings_.error(*was, "`was` is empty", "leave it out, or name what this one was");
      else if (was && entries.find(was->scalar))
        findings_.error(*was, "`was: " + was->scalar + "` names a " + what + " that is still there",
                        "it is for a " + std::string(what) + " that got another name");
      else if (was && !taken.insert(was->scalar).second)
        findings_.error(*was, "`was: " + was->scalar + "` stands twice", "one takes it over");
    }
  }

  void unused(const Node& sources, const Node& destinations, const Node& patterns) {
    for (const auto& e : sources.entries)
      if (!used_sources_.count(e.key) && !used_sources_.count(std::string(Flow::kLeftovers)))
        findings_.warning(e.key_place, e.key.size(),
                          "no pipeline takes the source `" + e.key + "`: its lines are counted as leftovers",
                          "name it in a pipeline's `from`");
    for (const auto& e : destinations.entries)
      if (!used_destinations_.count(e.key))
        findings_.warning(e.key_place, e.key.size(), "no pipeline sends to the destination `" + e.key + "`",
                          "name it in a pipeline's `to`");
    for (const auto& e : patterns.entries) {
      const std::string text(text_);
      bool used = false;
      for (const std::string& use : {":" + e.key + "}", ":" + e.key + " "})
        used = used || text.find(use) != std::string::npos;
      if (!used)
        findings_.warning(e.key_place, e.key.size(), "no template uses the pattern `" + e.key + "`",
                          "write {name:" + e.key + "} where it is meant");
    }
  }

  std::string_view text_;
  Findings& findings_;
  const Configuration* const sent_beside_;  // nullptr: whose text it is may open what it names
  std::shared_ptr<Configuration> result_;
  std::shared_ptr<PatternLibrary> patterns_;
  std::vector<std::string> declared_sources_, declared_destinations_;
  std::vector<TakesFrom> taking_;  // by pipeline
  std::vector<WrittenPipeline> written_;
  std::set<std::string> used_sources_, used_destinations_;
  std::string written_patterns_;
};

}  // namespace

std::string version_of(std::string_view text) {
  return fmt::format("{:08x}", static_cast<std::uint32_t>(XXH64(text.data(), text.size(), 0)));
}

std::string listen_problem(const Options& server) {
  const std::string& listen = server.text("listen");
  const std::string host = listen.substr(0, listen.rfind(':'));
  const bool loopback = host == "127.0.0.1" || host == "localhost" || host == "[::1]";
  return loopback || server.section("tls").given("certificate") ? ""
                                                                : "listening beyond the loopback needs `tls`";
}

std::shared_ptr<const Configuration> read_configuration(std::string_view text, Findings& findings) {
  auto result = Reader(text, findings).read();
  findings.sort();
  return result;
}

std::shared_ptr<const Configuration> read_sent_configuration(std::string_view text, Findings& findings,
                                                             const Configuration& running) {
  auto result = Reader(text, findings, &running).read();
  findings.sort();
  return result;
}

std::shared_ptr<const Configuration> to_be_tried(const std::shared_ptr<const Configuration>& running) {
  // Never destroyed: a configuration must not outlive what it was made with, which is the thread's.
  struct Made {
    std::mutex mutex;
    std::weak_ptr<const Configuration> of;
    std::shared_ptr<const Configuration> configuration;
  };
  static Made& made = *new Made;
  const std::lock_guard lock(made.mutex);
  if (made.configuration == nullptr || made.of.lock() != running) {
    Findings findings(running->text);
    made.configuration = read_sent_configuration(running->text, findings, *running);
    made.of = running;
  }
  return made.configuration;
}

}  // namespace dingle
