#include "bench/report.h"

#include <fmt/format.h>

#include <algorithm>
#include <random>

namespace dingle {
namespace {

double median(std::vector<double> values) {
  std::sort(values.begin(), values.end());
  return values.empty() ? 0 : values[values.size() / 2];
}

std::string rate(double per_second) {
  if (per_second >= 1e6) return fmt::format("{:.2f} M/s", per_second / 1e6);
  return fmt::format("{:.0f} k/s", per_second / 1e3);
}

}  // namespace

void RatioReporter::ReportRuns(const std::vector<Run>& runs) {
  ConsoleReporter::ReportRuns(runs);
  for (const Run& run : runs) {
    if (const std::string name = run.run_name.function_name;
        name.ends_with("/limits") && run.run_type == Run::RT_Iteration) {
      const std::string shown = name.substr(0, name.size() - 7);
      if (limits_.empty() || limits_.back().first != shown)
        limits_.emplace_back(shown, std::map<std::string, double>());
      auto& worst = limits_.back().second;  // of several runs
      for (const auto& [what, counter] : run.counters)
        if (what != "items_per_second") worst[what] = std::max<double>(worst[what], counter);
    }
    auto items = run.counters.find("items_per_second");
    if (run.run_type != Run::RT_Iteration || items == run.counters.end()) continue;
    const std::string name = run.run_name.function_name;
    if (!rates_.count(name)) order_.push_back(name);
    rates_[name].push_back(items->second);
    if (auto ms = run.counters.find("ms"); ms != run.counters.end()) times_[name].push_back(ms->second);
    if (auto mb = run.counters.find("MB_on_disk_per_M"); mb != run.counters.end() && mb->second > 0)
      disk_[name].push_back(mb->second);
  }
}

std::string RatioReporter::table() const {
  std::string out = "| benchmark | ours | baseline | | ratio | stolen |\n|---|---|---|---|---|---|\n";
  for (const std::string& ours : order_) {
    if (!ours.ends_with("/ours")) continue;
    const std::string name = ours.substr(0, ours.size() - 5);
    for (const std::string& other : order_) {
      if (!other.starts_with(name + "/baseline")) continue;
      const double a = median(rates_.at(ours)), b = median(rates_.at(other));
      auto shown = [&](const std::string& of, double per_second) {
        auto times = times_.find(of);
        return times == times_.end() ? rate(per_second) : fmt::format("{:.0f} ms", median(times->second));
      };
      out += fmt::format("| {} | {} | {} | {} | **{:.2f}** | {:.0f} % |\n", name, shown(ours, a),
                         other.substr(name.size() + 10), shown(other, b), a / b,
                         100 * (stolen.count(name) ? stolen.at(name) : 0));
      if (disk_.count(ours) && disk_.count(other)) {
        const double own = median(disk_.at(ours)), others = median(disk_.at(other));
        out +=
            fmt::format("| {}, on disk | {:.0f} MB a million | {} | {:.0f} MB a million | **{:.2f}** | |\n",
                        name, own, other.substr(name.size() + 10), others, own / others);
      }
    }
  }
  if (!limits_.empty()) out += "\n| what has a limit | | measured |\n|---|---|---|\n";
  for (const auto& [name, counters] : limits_)
    for (const auto& [what, value] : counters)
      out += fmt::format("| {} | {} | {:.1f} |\n", name, what, value);
  return out;
}

const char* const kAccessTemplate =
    "{client.address:ip} {ident:word} {user:word} [{at:clf_time}] \"{http.request.method:alphabetic} "
    "{url.path:unspaced} HTTP/{network.protocol.version:decimal}\" "
    "{http.response.status_code:int} {http.response.size:int} \"{referrer}\" \"{user_agent.original}\" "
    "{seconds:decimal}";
const char* const kAccessRegex =
    "^(?<address>[0-9a-fA-F:.]+) (?<ident>[\\w-]+) (?<user>[\\w-]+) "
    "\\[(?<at>\\d\\d/[A-Z][a-z]{2}/\\d{4}:\\d\\d:\\d\\d:\\d\\d [+-]\\d{4})\\] "
    "\"(?<method>[A-Za-z]+) (?<path>\\S+) HTTP/(?<version>[0-9.]+)\" (?<status>\\d+) (?<size>\\d+) "
    "\"(?<referrer>[^\"]*)\" \"(?<agent>[^\"]*)\" (?<seconds>[0-9.]+)$";

const std::string& access_log() {
  static const std::string text = [] {
    std::mt19937_64 random(1);
    auto below = [&](unsigned n) { return static_cast<unsigned>(random() % n); };
    static const char* const agents[] = {"Turnstile/4.0", "Mozilla/5.0 (X11; Linux x86_64) Skerry/1.2",
                                         "probe/1.0"};
    std::string out;
    for (int i = 0; i < 120'000; ++i) {
      const unsigned second = static_cast<unsigned>(i / 40);
      out += fmt::format(
          "192.0.2.{} - {} [23/Nov/2026:{:02}:{:02}:{:02} +0100] \"{} /gate/{}/scan?ticket=T-{:05} "
          "HTTP/1.1\" {} {} \"{}\" \"{}\" {:.3f}\n",
          1 + below(250), below(3) ? "-" : fmt::format("staff{:02}", below(40)), 8 + second / 3600,
          second / 60 % 60, second % 60, below(4) ? "POST" : "GET", 1 + below(9), below(100000),
          below(20) ? 200 : 503, 80 + below(90000),
          below(3) ? "-" : "https://skerry.example/timetable?from=northquay", agents[below(3)],
          below(2000) / 1000.0);
    }
    out.reserve(out.size() + 64);  // some room behind the lines, as a line buffer has
    std::fill_n(out.data() + out.size(), 64, '\0');
    return out;
  }();
  return text;
}

namespace {

std::vector<std::string_view> lines_of(std::string_view text) {
  std::vector<std::string_view> all;
  for (std::size_t at = 0; at < text.size();) {
    const std::size_t end = text.find('\n', at);
    all.push_back(text.substr(at, end - at));
    at = end + 1;
  }
  return all;
}

}  // namespace

const std::vector<std::string_view>& access_lines() { return plain_access_log().lines; }

const AccessLog& plain_access_log() {
  static const AccessLog log{access_log(), lines_of(access_log()), kAccessTemplate, kAccessRegex};
  return log;
}

const AccessLog& traced_access_log() {
  static const std::string text = [] {
    std::mt19937_64 random(2);
    std::string out;
    for (const std::string_view line : access_lines())
      out += fmt::format("{} trace={:016x}{:016x}\n", line, random(), random());
    return out;
  }();
  const std::string regex = kAccessRegex;
  static const AccessLog log{text, lines_of(text),
                             std::string(kAccessTemplate) + " trace={trace_id:trace_id}",
                             regex.substr(0, regex.size() - 1) + " trace=(?<trace>[0-9a-f]{32})$"};
  return log;
}

}  // namespace dingle
