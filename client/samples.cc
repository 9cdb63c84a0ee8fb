#include "client/samples.h"

#include <algorithm>
#include <filesystem>
#include <fstream>
#include <sstream>

#include "agent/rehearsal/rehearsal.h"
#include "client/table.h"
#include "core/json_text.h"
#include "core/nearest.h"
#include "core/time/instant.h"

namespace dingle {
namespace {

namespace fs = std::filesystem;

Json outcome_of(const Rehearsal& rehearsal, const Rehearsal::Traced& e) {
  Json row;
  if (e.line != Rehearsal::kNone) row["line"] = e.line + 1;
  row["outcome"] = name_of(e.outcome);
  if (e.ended_by != 0) row["by"] = e.ended_by;
  if (!e.reason.empty()) row["reason"] = valid_utf8(e.reason);
  if (e.outcome == Rehearsal::Outcome::merged || e.outcome == Rehearsal::Outcome::dropped) return row;
  if (e.timestamp != e.observed) row["timestamp"] = json_of(Value::timestamp(e.timestamp));
  if (e.line == Rehearsal::kNone || e.body != rehearsal.line(e.line)) row["body"] = valid_utf8(e.body);
  std::map<std::string, Json> fields;
  for (const Field& f : e.fields)
    if (f.name != names::unmatched && f.name != names::unmatched_column)
      fields[valid_utf8(field_name(f.name))] = json_of(f.value);
  row["fields"] = fields;
  row["to"] = Json::array();
  for (const auto& [destination, name] : e.to)
    row["to"].push_back(rehearsal.configuration().destinations[destination].name);
  return row;
}

std::string text_of(const Json& value) {
  return value.is_null() ? "nothing" : cut_to_width(one_line(dump(value)), 60);
}

// What differs between two objects, by member; those of `fields` by field.
std::vector<std::string> differences(const Json& expected, const Json& found) {
  std::vector<std::string> all;
  std::vector<std::string> members;
  for (const Json* of : {&expected, &found})
    for (const auto& [name, value] : of->items())
      if (std::find(members.begin(), members.end(), name) == members.end()) members.push_back(name);
  for (const std::string& name : members) {
    const Json a = expected.value(name, Json()), b = found.value(name, Json());
    if (a == b) continue;
    if (name == "fields" && a.is_object() && b.is_object())
      for (const std::string& within : differences(a, b)) all.push_back(within);
    else
      all.push_back(name + ": expected " + text_of(a) + ", found " + text_of(b));
  }
  return all;
}

bool read_whole(const fs::path& path, std::string& text) {
  std::ifstream in(path, std::ios::binary);
  std::ostringstream all;
  if (in) all << in.rdbuf();
  text = all.str();
  return static_cast<bool>(in);
}

class Samples {
 public:
  Samples(const Configuration& configuration, bool write) : configuration_(configuration), write_(write) {}
  SampleResults results;

  void pipeline(const fs::path& folder) {
    const std::string name = folder.filename().string();
    std::vector<std::string> names;
    for (const PipelineSettings& p : configuration_.pipelines) names.push_back(p.name);
    if (std::find(names.begin(), names.end(), name) == names.end()) {
      const std::string near = did_you_mean(name, names);
      return tell(folder, 0, "there is no pipeline `" + name + "`; " + (near.empty() ? one_of(names) : near));
    }
    std::vector<fs::path> samples;
    for (const auto& entry : fs::directory_iterator(folder))
      if (entry.path().extension() == ".log") samples.push_back(entry.path());
    std::sort(samples.begin(), samples.end());
    for (const fs::path& path : samples) sample(name, path);
  }

 private:
  void tell(const fs::path& file, std::size_t line, std::string text) {
    results.differences.push_back({file.string(), line, std::move(text)});
  }

  void sample(const std::string& pipeline, const fs::path& path) {
    std::string text;
    if (!read_whole(path, text)) return tell(path, 0, "cannot be read");
    ++results.samples;
    const std::string source = source_for(configuration_, pipeline);
    const auto lines = lines_of_text(configuration_, source, text);
    const Rehearsal rehearsal({configuration_, source, pipeline, lines, system_now()});
    std::vector<Json> found;
    for (const Rehearsal::OfPipeline& p : rehearsal.pipelines())
      for (const Rehearsal::Traced& e : p.events) found.push_back(outcome_of(rehearsal, e));
    results.events += found.size();
    fs::path beside = path;
    beside.replace_extension(".ndjson");
    if (write_) {
      std::ofstream out(beside, std::ios::binary);
      for (const Json& row : found) out << dump(row) << "\n";
      if (!out.flush()) tell(beside, 0, "cannot be written");
      return;
    }
    if (!read_whole(beside, text))
      return tell(beside, 0, "is not there: it says what is expected; --write makes it");
    compare(path, beside, text, found);
  }

  void compare(const fs::path& path, const fs::path& beside, const std::string& text,
               const std::vector<Json>& found) {
    std::size_t number = 0, told = 0;
    std::istringstream expected(text);
    for (std::string line; std::getline(expected, line); ++number) {
      const Json row = parse_json(line);
      if (!row.is_object()) return tell(beside, number + 1, "is not a JSON object");
      if (number >= found.size()) continue;
      const std::size_t at = found[number].value("line", std::size_t{0});
      for (std::string& what : differences(row, found[number])) {
        if (told++ < SampleResults::kMostTold)
          tell(path, at, std::move(what));
        else
          ++results.more;
      }
    }
    if (number != found.size())
      tell(path, 0,
           "expected " + counted(static_cast<std::int64_t>(number), "event") + ", found " +
               std::to_string(found.size()));
  }

  const Configuration& configuration_;
  const bool write_;
};

}  // namespace

SampleResults check_samples(const Configuration& configuration, const std::string& folder, bool write) {
  std::error_code error;
  std::vector<fs::path> pipelines;
  for (const auto& entry : fs::directory_iterator(folder, error))
    if (entry.is_directory()) pipelines.push_back(entry.path());
  std::sort(pipelines.begin(), pipelines.end());
  Samples samples(configuration, write);
  if (error) samples.results.differences.push_back({folder, 0, error.message()});
  for (const fs::path& pipeline : pipelines) samples.pipeline(pipeline);
  if (samples.results.samples == 0 && samples.results.differences.empty())
    samples.results.differences.push_back(
        {folder, 0, "there are no samples: lines are looked for in PIPELINE/NAME.log"});
  return samples.results;
}

}  // namespace dingle
