#include "agent/engine/kept_names.h"

#include <fmt/format.h>
#include <xxhash.h>

#include <algorithm>
#include <cstdlib>
#include <fstream>
#include <iterator>
#include <map>
#include <set>
#include <vector>

#include "spool/whole_file.h"

namespace dingle {
namespace {

struct Named {
  const char *prefix, *next, *what;
};
constexpr Named kNamed[] = {{"destination/", "next-destination", "destination"},
                            {"pipeline/", "next-pipeline", "pipeline"},
                            {"step/", "next-step", "step"}};

const std::string kCounter = "counter/";

std::uint64_t number_of(const std::string& text) { return std::strtoull(text.c_str(), nullptr, 10); }

std::string read_all(const std::string& path) {
  std::ifstream in(path, std::ios::binary);
  return std::string(std::istreambuf_iterator<char>(in), {});
}

std::string sum_of(std::string_view text) {
  return fmt::format("{:016x}\n", XXH64(text.data(), text.size(), 0));
}

// Nothing of a file that is not whole.
std::map<std::string, std::string> names_in(const std::string& path) {
  std::map<std::string, std::string> all;
  const std::string text = read_all(path);
  constexpr std::size_t kSum = 17;
  if (text.size() < kSum || !text.ends_with(sum_of(std::string_view(text).substr(0, text.size() - kSum))))
    return all;
  for (std::size_t at = 0; at + kSum < text.size();) {
    const std::size_t end = text.find('\n', at), space = text.rfind(' ', end);
    all.emplace(text.substr(at, space - at), text.substr(space + 1, end - space - 1));
    at = end + 1;
  }
  return all;
}

}  // namespace

std::string KeptNames::restore(Spool& spool) const {
  const std::map<std::string, std::string> kept = names_in(path_);
  Changes changes;
  std::string lost;
  for (const Named& named : kNamed) {
    const auto there = spool.state_with_prefix(named.prefix);
    std::set<std::uint64_t> taken;
    for (const auto& [key, id] : there) taken.insert(number_of(id));
    std::uint64_t next = number_of(spool.state(named.next).value_or("1"));
    const std::uint64_t before = next;
    for (const auto& [key, id] : kept) {
      if (!key.starts_with(named.prefix) || there.contains(key) || !taken.insert(number_of(id)).second)
        continue;
      changes.state.push_back({key, id, false});
      next = std::max(next, number_of(id) + 1);
      lost += (lost.empty() ? "" : ", ") + std::string(named.what) + " " +
              key.substr(std::string_view(named.prefix).size());
    }
    if (next != before) changes.state.push_back({named.next, std::to_string(next), false});
  }
  std::vector<CounterName> counters;
  for (const auto& [key, id] : kept)
    if (key.starts_with(kCounter))
      counters.push_back({static_cast<CounterId>(number_of(id)), key.substr(kCounter.size())});
  const std::size_t named = spool.name_counters(counters);
  if (named != 0)
    lost += (lost.empty() ? "" : ", ") + std::to_string(named) + (named == 1 ? " counter" : " counters");
  if (lost.empty() || spool.note(std::move(changes)) != 0) return "";
  return lost;
}

int KeptNames::save(const Spool& spool) const {
  std::string text;
  for (const Named& named : kNamed)
    for (const auto& [key, id] : spool.state_with_prefix(named.prefix))
      if (key.find('\n') == std::string::npos) text += key + " " + id + "\n";
  for (const CounterName& c : spool.counter_names())
    if (c.name.find('\n') == std::string::npos) text += kCounter + c.name + " " + std::to_string(c.id) + "\n";
  text += sum_of(text);
  return read_all(path_) == text ? 0 : write_whole(path_, text, 0600);
}

}  // namespace dingle
