// dingle timeline: counts or measures over event time, as bars.
#include <fmt/format.h>

#include <algorithm>
#include <charconv>
#include <cmath>
#include <iostream>
#include <map>
#include <set>

#include "client/events.h"
#include "client/query_options.h"
#include "client/table.h"
#include "client/times.h"
#include "core/severity.h"
#include "core/template/lexemes.h"
#include "core/time/buckets.h"
#include "core/time/formats.h"
#include "core/time/instant.h"

namespace dingle {
namespace {

struct TimelineOptions {
  QueryOptions query;
  std::string bucket, measure, field;
  std::vector<std::string> by;
  bool as_stored = false;
};

// How the parts of a split are told apart: by sign and by colour.
constexpr const char* kSigns[] = {"█", "▓", "▒", "░", "▪", "▫", "•", "·"};
constexpr const char* kColors[] = {"36", "33", "32", "35", "94", "91", "96", "37"};
constexpr std::size_t kMostParts = 8;

// Severities look as in searches.
const char* color_of(const TimelineOptions& o, const std::string& key, std::size_t part) {
  int number = 0;
  if (o.by.size() == 1 && (o.by[0] == "severity" || o.by[0] == "severity_number")) {
    if (o.by[0] == "severity"
            ? severity_number_of(key, number)
            : std::from_chars(key.data(), key.data() + key.size(), number).ec == std::errc())
      return severity_color(number);
  }
  return kColors[std::min(part, kMostParts - 1)];
}

constexpr std::int64_t kLongGap = 6;  // empty buckets that are shown as one line

std::string length_of(std::int64_t gap) {
  constexpr std::int64_t kMinute = 60 * kSecond, kHour = 60 * kMinute;
  const std::int64_t hours = gap % kDay / kHour, minutes = gap % kHour / kMinute;
  if (gap < kHour || (gap < kDay && gap % kMinute != 0)) return format_duration(gap);
  if (gap < kDay) return std::to_string(hours) + "h" + (minutes ? " " + std::to_string(minutes) + "m" : "");
  return std::to_string(gap / kDay) + "d" + (hours ? " " + std::to_string(hours) + "h" : "");
}

std::int64_t instant(const Json& text) {
  const std::string s = json_text(text);
  ParsedTime t;
  scan_rfc3339(s.data(), s.data() + s.size(), t);
  return t.nanoseconds;
}

constexpr const char* kOthers = "others";

std::string key_of(const Json& row) {
  std::string key;
  if (row.contains("others")) return kOthers;
  if (row.contains("keys"))
    for (const Json& k : row["keys"])
      key += (key.empty() ? "" : " / ") + (k.is_null() ? std::string("(none)") : json_text(k));
  return key;
}

double value_of(const Json& row) {
  return row.contains("value") ? row["value"].get<double>() : row["count"].get<double>();
}

std::string number(double v) {
  return v == static_cast<double>(static_cast<std::int64_t>(v)) ? with_thousands(static_cast<std::int64_t>(v))
                                                                : fmt::format("{:.3g}", v);
}

// `stacked`: parts add up (counts, sums); otherwise each part has a line of its own.
void draw(const Client& client, const Json& body, bool stacked, const TimelineOptions& o) {
  std::map<std::string, double> totals;
  std::map<std::int64_t, std::map<std::string, double>> buckets;
  std::set<std::int64_t> partial;
  std::int64_t end = INT64_MIN;  // of the last one
  for (const Json& row : body["rows"]) {
    const std::int64_t time = instant(row["time"]);
    if (row.value("partial", false)) partial.insert(time);
    end = row.contains("until") ? instant(row["until"]) : time;
    if (row["count"] == 0) continue;
    totals[key_of(row)] += value_of(row);
    buckets[time][key_of(row)] += value_of(row);
  }
  if (buckets.empty()) {
    std::cout << "no events\n";
    return;
  }
  std::vector<std::pair<double, std::string>> parts;
  for (const auto& [key, total] : totals) parts.emplace_back(total, key);
  std::sort(parts.begin(), parts.end(), [](const auto& a, const auto& b) {
    return a.first != b.first ? a.first > b.first : a.second < b.second;
  });
  const bool more = parts.size() > kMostParts;
  if (more) parts.resize(kMostParts - 1);
  auto part_of = [&](const std::string& key) {
    for (std::size_t i = 0; i < parts.size(); ++i)
      if (parts[i].second == key) return i;
    return parts.size();  // others
  };
  const auto step = static_cast<std::int64_t>(body["bucket_seconds"].get<double>() * 1e9);
  const auto end_of = [&](std::int64_t t) { return bucket_at(t, step, client.zone).end; };
  const bool split = totals.size() > 1 || !totals.begin()->first.empty();
  double most = 0;
  for (const auto& [time, values] : buckets) {
    double sum = 0;
    for (const auto& [key, v] : values) sum = stacked ? sum + v : std::max(sum, v);
    most = std::max(most, sum);
  }
  // The parts' own numbers stand behind the bars, where there is room for them.
  const std::size_t numbers = stacked && split ? (parts.size() + more) * 9 : 0;
  const bool with_numbers = numbers != 0 && client.width >= 35 + numbers + 15;
  const std::size_t taken = 32 + (with_numbers ? numbers : 0);
  const std::size_t room = client.width > taken + 15 ? std::min<std::size_t>(client.width - taken, 100) : 15;
  const auto color = [&](std::size_t part) {
    return part < parts.size() ? color_of(o, parts[part].second, part) : kColors[kMostParts - 1];
  };
  if (split) {
    double others = 0;
    for (const auto& [key, total] : totals)
      if (part_of(key) == parts.size()) others += total;
    std::size_t used = 0;  // of the line
    const auto name = [&](const char* painted, const char* sign, const std::string& key, double sum) {
      const std::string value = stacked ? " " + number(sum) : "";
      const std::size_t wide = 2 + display_width(key) + display_width(value);
      if (used != 0) {
        const bool fits = used + 3 + wide <= client.width;
        std::cout << (fits ? "   " : "\n");
        used = fits ? used + 3 : 0;
      }
      used += wide;
      std::cout << paint(client, painted, sign) << " " << key << (stacked ? paint(client, "2", value) : "");
    };
    for (std::size_t i = 0; i < parts.size(); ++i) name(color(i), kSigns[i], parts[i].second, parts[i].first);
    if (more) name(kColors[kMostParts - 1], kSigns[kMostParts - 1], kOthers, others);
    std::cout << "\n";
  }
  bool cut_short = false, not_over = false;
  const bool with_date = step >= kDay;
  std::string day;
  // Also those that begin elsewhere, because the other machine knows the zone otherwise.
  const auto after = [&](std::int64_t t) {
    const auto next = buckets.upper_bound(t);
    return next == buckets.end() ? end_of(t) : std::min(end_of(t), next->first);
  };
  for (std::int64_t t = buckets.begin()->first; t <= std::max(end, buckets.rbegin()->first); t = after(t)) {
    const auto found = buckets.lower_bound(t);
    if (const std::int64_t next = found == buckets.end() ? end_of(end) : found->first;
        static_cast<double>(next) - static_cast<double>(t) >= static_cast<double>(kLongGap * step)) {
      std::cout << paint(client, "2",
                         "  …  nothing for " +
                             length_of(with_date ? client.zone.to_local(next) - client.zone.to_local(t)
                                                 : next - t) +
                             ", " +
                             counted(std::llround((static_cast<double>(next) - static_cast<double>(t)) /
                                                  static_cast<double>(step)),
                                     "bucket") +
                             (found != buckets.end() ? ""
                              : o.query.to.empty()   ? ", until now"
                                                     : ", to the end"))
                << "\n";
      if (found == buckets.end()) break;
      t = next;
    }
    if (partial.contains(t)) (t == end && o.query.to.empty() ? not_over : cut_short) = true;
    const std::string text = format_short(client.zone.to_local(t));
    if (const std::string here = text.substr(0, 10) + " " + shown_offset(client, t);
        !with_date && here != day) {
      day = here;
      std::cout << paint(client, "1", day) << "\n";
    }
    std::vector<double> sums(parts.size() + 1, 0);
    double all = 0;
    if (auto it = buckets.find(t); it != buckets.end())
      for (const auto& [key, v] : it->second) sums[part_of(key)] += v, all += v;
    const std::string label = with_date ? text.substr(0, 10) : text.substr(11, step < 60 * kSecond ? 8 : 5);
    if (stacked) {
      std::string bar;
      double before = 0;
      std::size_t drawn = 0;
      for (std::size_t i = 0; i < sums.size(); ++i) {
        before += sums[i];
        std::string piece;
        for (auto to =
                 static_cast<std::size_t>(before / std::max(most, 1e-9) * static_cast<double>(room) + 0.5);
             drawn < to; ++drawn)
          piece += kSigns[std::min(i, kMostParts - 1)];
        if (!piece.empty()) bar += paint(client, color(i), piece);
      }
      std::cout << label << (partial.contains(t) ? "~" : " ") << fmt::format("{:>11}", number(all)) << "  "
                << bar;
      if (with_numbers) {
        std::cout << std::string(room - std::min(room, drawn) + 1, ' ');
        for (std::size_t i = 0; i < parts.size() + more; ++i)
          std::cout << paint(client, color(i), fmt::format("{:>9}", sums[i] == 0 ? "·" : number(sums[i])));
      }
      std::cout << "\n";
    } else {
      for (std::size_t i = 0; i < sums.size(); ++i) {
        if (sums[i] == 0 && split) continue;
        std::string piece;
        for (std::size_t n =
                 static_cast<std::size_t>(sums[i] / std::max(most, 1e-9) * static_cast<double>(room) + 0.5);
             n > 0; --n)
          piece += kSigns[std::min(i, kMostParts - 1)];
        std::cout << label << (partial.contains(t) ? "~" : " ") << fmt::format("{:>11}", number(sums[i]))
                  << "  " << paint(client, color(i), piece) << "\n";
        if (!split) break;
      }
    }
  }
  if (cut_short) std::cout << paint(client, "2", "~ a part of this time was not asked for") << "\n";
  if (not_over) std::cout << paint(client, "2", "~ this time is not over") << "\n";
}

int run_timeline(Client& client, const TimelineOptions& o) {
  Parameters parameters = o.query.parameters(client);
  if (!o.bucket.empty()) parameters.emplace("bucket", o.bucket);
  if (!client.zone.is_utc()) parameters.emplace("zone", client.zone.name());
  if (!o.measure.empty()) parameters.emplace("measure", o.measure);
  if (!o.field.empty()) parameters.emplace("field", o.field);
  for (const std::string& field : o.by) parameters.emplace("by", field);
  if (o.as_stored) parameters.emplace("as_stored", "true");
  Answer a = call(client, "GET", "/v1/timeline", parameters);
  if (!a.ok) return kFoundProblems;
  const bool damaged = report_problems(a.body);
  if (client.output == OutputForm::table) {
    draw(client, a.body, o.measure.empty() || o.measure == "count" || o.measure == "sum", o);
    std::string what = o.measure.empty() || o.measure == "count" ? "events" : o.measure + " of " + o.field;
    std::cout << paint(client, "2",
                       what + " per " +
                           format_duration(
                               static_cast<std::int64_t>(a.body["bucket_seconds"].get<double>() * 1e9)) +
                           ", event time in " + client.zone.name() +
                           (a.body["approximate"].get<bool>()
                                ? "; approximate: some groups are counted with the others"
                                : "") +
                           (a.body.contains("earlier_left_out")
                                ? "; earlier events are left out: name --from, or a longer --bucket"
                                : "") +
                           (a.body["weighted"].get<bool>() ? "; counted with what events stand for" : ""))
              << "\n";
  } else {
    std::vector<Json> rows;
    std::set<std::string> marks;  // that some rows have
    for (const Json& row : a.body["rows"]) {
      Json flat{{"time", row["time"]}};
      for (const char* mark : {"until", "partial", "others"})
        if (row.contains(mark)) flat[mark] = row[mark], marks.insert(mark);
      for (std::size_t i = 0; row.contains("keys") && i < o.by.size(); ++i) flat[o.by[i]] = row["keys"][i];
      flat["count"] = row["count"];
      if (row.contains("value")) flat["value"] = row["value"];
      rows.push_back(std::move(flat));
    }
    std::vector<Column> columns{{"time", ""}};
    for (const std::string& field : o.by) columns.push_back({field, ""});
    columns.push_back({"count", ""});
    if (!o.measure.empty() && o.measure != "count") columns.push_back({"value", ""});
    for (const std::string& mark : marks) columns.push_back({mark, ""});
    print_rows(client, columns, rows);
  }
  return damaged ? kFoundProblems : kFine;
}

const CommandRegistration timeline_command(
    "timeline", "Counts events over time, split by a field, or measures a field",
    "dingle timeline --by service.name --bucket 1m --from 1h", true,
    [](const Arguments& app) -> std::function<int(Client&)> {
      auto o = std::make_shared<TimelineOptions>();
      o->query.add_to(app);
      app.option("--bucket", o->bucket, "The length of a bucket: 10s, 5m, 1h");
      app.option("--by", o->by, "Split by this field; two at most").separated_by(',');
      app.option("--measure", o->measure, "count, sum, average, minimum, maximum or percentile:95");
      app.option("--field", o->field, "The field that is measured");
      app.flag("--as-stored", o->as_stored, "Count each stored event once, whatever it stands for");
      return [o](Client& client) { return run_timeline(client, *o); };
    });

}  // namespace
}  // namespace dingle
