#include "server/sample_sets.h"

#include <sys/stat.h>

#include <algorithm>
#include <cerrno>
#include <cstring>
#include <filesystem>
#include <fstream>
#include <iterator>

#include "agent/configuration_hiding.h"
#include "agent/json.h"
#include "core/ascii.h"
#include "core/json_fields.h"
#include "spool/whole_file.h"

namespace dingle {

std::size_t SampleSet::bytes() const {
  std::size_t all = 0;
  for (const std::string& line : lines) all += line.size();
  return all;
}

bool SampleSets::is_name(std::string_view text) {
  return !text.empty() && text.size() <= 80 && text[0] != '.' &&
         std::all_of(text.begin(), text.end(),
                     [](char c) { return is_digit(c) || is_letter(c) || c == '.' || c == '_' || c == '-'; });
}

std::vector<std::string> SampleSets::names() const {
  std::vector<std::string> all;
  std::error_code error;
  for (auto it = std::filesystem::directory_iterator(folder_, error);
       !error && it != std::filesystem::directory_iterator(); it.increment(error))
    if (it->path().extension() == ".json" && is_name(it->path().stem().string()))
      all.push_back(it->path().stem().string());
  std::sort(all.begin(), all.end());
  return all;
}

std::optional<SampleSet> SampleSets::read(const std::string& name, std::string& problem) const {
  if (!is_name(name)) return std::nullopt;
  std::ifstream in(path_of(name), std::ios::binary);
  if (!in) return std::nullopt;
  const std::string text(std::istreambuf_iterator<char>(in), {});
  const Json json = nests_deeper_than(text, 8) ? Json() : Json::parse(text, nullptr, false);
  SampleSet set{name, "", "", 0, {}};
  try {
    json.at("source").get_to(set.source);
    json.at("by").get_to(set.by);
    json.at("at").get_to(set.at);
    json.at("lines").get_to(set.lines);
  } catch (const Json::exception&) {
    problem = path_of(name) + " is damaged";
    return std::nullopt;
  }
  return set;
}

std::optional<SampleSet> SampleSets::get(const std::string& name, std::string& problem) const {
  std::lock_guard lock(mutex_);
  return read(name, problem);
}

std::string SampleSets::keep(SampleSet set, bool add, const Configuration& configuration) {
  if (is_hidden(configuration, set.source))
    return "a pipeline hides what lines of `" + set.source +
           "` hold, so that none are kept here; keep samples of your own in a folder (dingle check "
           "--samples)";
  std::lock_guard lock(mutex_);
  std::string problem;
  const auto before = read(set.name, problem);
  if (!problem.empty()) return problem;
  if (add && before) {
    if (before->source != set.source)
      return "the set `" + set.name + "` holds lines of `" + before->source + "`";
    set.lines.insert(set.lines.begin(), before->lines.begin(), before->lines.end());
  }
  if (set.lines.empty()) return "there are no lines to keep";
  if (set.lines.size() > kMostLines || set.bytes() > kMostBytes)
    return "a set has at most " + std::to_string(kMostLines) + " lines and 1 MiB; these would be " +
           std::to_string(set.lines.size()) + " lines and " + std::to_string(set.bytes()) + " bytes";
  if (!before && names().size() >= kMostSets)
    return "there are " + std::to_string(kMostSets) + " sets already, which is the most";
  if (::mkdir(folder_.c_str(), 0700) != 0 && errno != EEXIST)
    return folder_ + " cannot be made: " + std::strerror(errno);
  const Json json{{"source", set.source}, {"by", set.by}, {"at", set.at}, {"lines", set.lines}};
  const int error =
      write_whole(path_of(set.name), json.dump(-1, ' ', false, Json::error_handler_t::replace) + "\n", 0600);
  return error == 0 ? "" : "the set cannot be written: " + std::string(std::strerror(error));
}

bool SampleSets::remove(const std::string& name) {
  std::lock_guard lock(mutex_);
  std::error_code error;
  return is_name(name) && std::filesystem::remove(path_of(name), error);
}

void SampleSets::look(Engine& engine) const {
  const auto configuration = engine.configuration();
  std::vector<std::string> told;
  for (const std::string& name : names()) {
    std::string problem;
    const auto set = get(name, problem);
    if (!set || !is_hidden(*configuration, set->source)) continue;
    told.push_back("sample set " + name);
    engine.problems().set(told.back(), "it holds lines of `" + set->source +
                                           "` as they came, and a pipeline hides what they hold; " +
                                           "dingle samples delete " + name);
  }
  std::lock_guard lock(mutex_);
  for (const std::string& before : told_)
    if (std::find(told.begin(), told.end(), before) == told.end()) engine.problems().clear(before);
  told_ = std::move(told);
}

}  // namespace dingle
