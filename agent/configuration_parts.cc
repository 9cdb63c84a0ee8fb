#include "agent/configuration_parts.h"

#include <algorithm>
#include <map>
#include <set>

#include "core/nearest.h"
#include "core/steps/memory.h"
#include "core/template/template.h"

namespace dingle {

void read_patterns(const std::vector<const Node::Entry*>& entries, PatternLibrary& patterns,
                   Findings& findings) {
  std::vector<std::pair<const Node::Entry*, Options>> read;
  const auto read_one = [&](const Node::Entry& e) {
    if (!is_pattern_name(e.key))
      return findings.error(e.key_place, e.key.size(), "`" + e.key + "` is not a pattern's name",
                            "use letters, digits and `_`");
    Options o = Options::read(pattern_options(), e.value, e.key, findings);
    if (o.given("regex") == o.given("template"))
      return findings.error(e.key_place, e.key.size(),
                            "the pattern `" + e.key + "` needs either `regex` or `template`",
                            "for instance: { regex: '[A-Z]{2}-\\d{2}' }");
    const bool regex = o.given("regex");
    Pattern p;
    p.name = e.key;
    p.form = regex ? PatternForm::regex : PatternForm::template_text;
    p.kind = regex ? kind_named(o.text("type")) : Kind::text;
    p.description = o.text("text");
    p.source = o.text(regex ? "regex" : "template");
    if (o.flag("replace")) {
      if (!patterns.find(p.name))
        return findings.error(o.where("replace"), "there is no built-in pattern `" + e.key + "` to replace",
                              did_you_mean(e.key, patterns.names()));
      patterns.replace(p);
    } else if (!patterns.add(p)) {
      return findings.error(e.key_place, e.key.size(), "`" + e.key + "` is a built-in pattern",
                            "choose another name, or say `replace: true` if it is meant to take its place");
    }
    read.emplace_back(&e, o);
  };
  for (const Node::Entry* entry : entries) read_one(*entry);
  // Checked when all are known, since they may use each other.
  for (const auto& [entry, o] : read) {
    std::vector<Problem> problems;
    const bool regex = o.given("regex");
    if (regex) {
      if (auto compiled = Regex::compile(o.text("regex"), Regex::Where::anchored); !compiled)
        problems.push_back(compiled.problem());
    } else {
      Template::compile(o.text("template"), patterns, {}, problems);
    }
    for (const Problem& p : problems) findings.error_within(o.where(regex ? "regex" : "template"), p);
  }
}

void read_table_of(const Node::Entry& e, std::string written, Configuration& configuration,
                   Findings& findings, const Configuration* sent_beside) {
  Options o = Options::read(table_options(), e.value, e.key, findings);
  if (!o.sound()) return;
  const bool noted = o.given("noted"), places = o.text("format") == "mmdb";
  if (noted == o.given("file")) {
    findings.error(
        e.value,
        noted ? "`" + e.key + "` has `file` and `noted`" : "`" + e.key + "` has neither `file` nor `noted`",
        "`file` names what it is read from; `noted: [COLUMN, ...]` the columns that a `note` step fills");
    return;
  }
  for (const char* of_rows : {"key", "match", "separator"})
    if (o.given(of_rows) && (noted || places))
      findings.error(o.where(of_rows), "`" + std::string(of_rows) + "` is for tables of rows in a file",
                     noted ? "the step says what the key is" : "places are found by their addresses");
  if (noted) {
    const std::vector<std::string>& columns = o.texts("noted");
    if (std::set<std::string>(columns.begin(), columns.end()).size() != columns.size() || columns.empty() ||
        columns.size() > 200)
      findings.error(o.where("noted"), "1 to 200 columns, each once", "");
    auto handle = std::make_shared<TableHandle>(e.key, TableHandle::Form::noted, columns);
    if (sent_beside != nullptr)
      if (const auto runs = sent_beside->tables_by_name.find(e.key);
          runs != sent_beside->tables_by_name.end() && runs->second->form == TableHandle::Form::noted &&
          runs->second->noted_columns == columns)
        handle = runs->second;
    configuration.tables_by_name.emplace(e.key, std::move(handle));
    return;
  }
  TableSettings t{
      e.key, o.text("file"), o,
      std::make_shared<TableHandle>(e.key, places ? TableHandle::Form::places : TableHandle::Form::rows)};
  t.written = std::move(written);
  if (sent_beside != nullptr) {
    const auto runs =
        std::find_if(sent_beside->tables.begin(), sent_beside->tables.end(),
                     [&](const auto& one) { return one.name == t.name && one.written == t.written; });
    if (runs != sent_beside->tables.end())
      t.handle = runs->handle;
    else
      findings.warning(o.where("file"), "the table `" + e.key + "` is empty here: what is sent opens no file",
                       "a table that runs, with the same name and options, is used as it is");
    configuration.tables_by_name.emplace(e.key, t.handle);
    configuration.tables.push_back(std::move(t));
    return;
  }
  t.read = FileStamp::of(t.file);
  if (auto read = load_table(t))
    t.handle->put(*read);
  else
    findings.warning(o.where("file"), "the table `" + e.key + "` has no rows yet: " + read.problem().message,
                     read.problem().hint);
  configuration.tables_by_name.emplace(e.key, t.handle);
  configuration.tables.push_back(std::move(t));
}

void check_metrics(const Configuration& configuration, const Node& at, Findings& findings) {
  std::map<std::string, std::pair<std::string, const TallyMetric*>> known;
  for (const PipelineSettings& p : configuration.pipelines)
    for (const auto& step : p.pipeline->steps) {
      const MemoryStep* tally = step->with_memory();
      const TallyMetric* metric = tally != nullptr ? tally->metric_of() : nullptr;
      if (metric == nullptr) continue;
      const auto [other, added] = known.try_emplace(metric->name, p.name, metric);
      if (added) continue;
      if (other->second.first == p.name)
        findings.error(at, "two steps of `" + p.name + "` count into the metric `" + metric->name + "`",
                       "give one another name");
      else if (other->second.second->form != metric->form || other->second.second->bounds != metric->bounds)
        findings.error(at,
                       "the metric `" + metric->name + "` of `" + p.name +
                           "` is another kind of metric in `" + other->second.first + "`",
                       "give one another name, or the same kind and buckets");
    }
}

}  // namespace dingle
