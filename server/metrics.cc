// The status as metrics.
#include <map>
#include <string>
#include <vector>

#include "core/json_text.h"
#include "server/api.h"
#include "server/json_answer.h"

namespace dingle {
namespace {

// Collects samples by metric, so that each family stands together, as both formats want.
class Metrics {
 public:
  void add(const std::string& name, bool counter, const std::string& help, const std::string& labels,
           double value) {
    Family& f = families_[name];
    if (f.samples.empty()) order_.push_back(name), f.counter = counter, f.help = help;
    f.samples.emplace_back(labels, value);
  }
  // A histogram (OpenMetrics 1.0, 5.3), by what took at most so long.
  void add(const std::string& name, const std::string& help, const std::string& labels,
           const Engine::DestinationState& d) {
    add_histogram(name, help, labels, d.latency_at_most, d.latency_count, d.latency_sum);
  }
  // `at_most`: bounds, and how many values are not above them.
  void add_histogram(const std::string& name, const std::string& help, const std::string& labels,
                     const std::vector<std::pair<double, std::uint64_t>>& at_most, std::uint64_t count,
                     double sum) {
    std::string& out = histograms_[name];
    if (out.empty()) out = "# HELP " + name + " " + help + "\n# TYPE " + name + " histogram\n";
    for (const auto& [most, n] : at_most)
      out += name + "_bucket{" + labels + ",le=\"" + dump(most) + "\"} " + std::to_string(n) + "\n";
    out += name + "_bucket{" + labels + ",le=\"+Inf\"} " + std::to_string(count) + "\n";
    out += name + "_count{" + labels + "} " + std::to_string(count) + "\n";
    out += name + "_sum{" + labels + "} " + number(sum) + "\n";
  }
  std::string text(bool openmetrics) const {
    std::string out;
    for (const std::string& name : order_) {
      const Family& f = families_.at(name);
      const std::string sample = f.counter ? name + "_total" : name;
      const std::string& family = openmetrics ? name : sample;
      out +=
          "# HELP " + family + " " + f.help + "\n# TYPE " + family + (f.counter ? " counter\n" : " gauge\n");
      for (const auto& [labels, value] : f.samples)
        out += sample + (labels.empty() ? "" : "{" + labels + "}") + " " + number(value) + "\n";
    }
    for (const auto& [name, histogram] : histograms_) out += histogram;
    if (openmetrics) out += "# EOF\n";
    return out;
  }

 private:
  struct Family {
    bool counter = false;
    std::string help;
    std::vector<std::pair<std::string, double>> samples;
  };
  static std::string number(double v) {
    std::string text;
    if (v == static_cast<double>(static_cast<std::int64_t>(v)))
      return std::to_string(static_cast<std::int64_t>(v));
    return dump(v);
  }
  std::map<std::string, std::string> histograms_;
  std::map<std::string, Family> families_;
  std::vector<std::string> order_;
};

std::string label(const char* name, const std::string& value) {
  std::string out = std::string(name) + "=\"";
  for (char c : value) {
    if (c == '\\' || c == '"') out += '\\';
    if (c == '\n')
      out += "\\n";
    else
      out += c;
  }
  return out + '"';
}

std::string label_of_step(const Json& pipeline, std::size_t i) {
  return label("pipeline", pipeline["name"]) + "," +
         label("step", std::to_string(i + 1) + " " + pipeline["steps"][i]["step"].get<std::string>());
}

// Metrics of the configuration's own.
void add_tallied(Metrics& m, const Engine::Tallied& tallied) {
  const std::string help =
      tallied.metric.help.empty() ? "Counted by the pipeline " + tallied.pipeline + "." : tallied.metric.help;
  std::string safe;
  for (const char c : help)
    safe += c == '\n' ? std::string("\\n") : c == '\\' ? std::string("\\\\") : std::string(1, c);
  for (const TallySeries& series : tallied.series) {
    std::string labels = label("pipeline", tallied.pipeline);
    for (const auto& [name, value] : series.labels) labels += "," + label(name.c_str(), valid_utf8(value));
    if (tallied.metric.form != TallyMetric::Form::histogram) {
      m.add(tallied.metric.name, tallied.metric.form == TallyMetric::Form::counter, safe, labels,
            series.value);
      continue;
    }
    std::vector<std::pair<double, std::uint64_t>> at_most;
    std::uint64_t count = 0;
    for (std::size_t i = 0; i < series.buckets.size(); ++i) {
      count += series.buckets[i];
      if (i < tallied.metric.bounds.size()) at_most.emplace_back(tallied.metric.bounds[i], count);
    }
    m.add_histogram(tallied.metric.name, safe, labels, at_most, count, series.value);
  }
}

}  // namespace

std::string metrics_text(Engine& engine, bool openmetrics) {
  const Json status = parse_json(status_json(engine));
  Metrics m;
  auto each = [&](const char* list, const char* what,
                  const std::vector<std::pair<const char*, const char*>>& fields, bool counter,
                  const std::string& suffix) {
    for (auto [field, help] : fields)
      for (const Json& item : status[list])
        if (!item[field].is_null())
          m.add(std::string("dingle_") + what + "_" + field + suffix, counter, help,
                label(what, item["name"]), item[field].get<double>());
  };
  each("sources", "source",
       {{"lines", "Lines read."},
        {"bytes", "Bytes read."},
        {"empty", "Empty lines, which make no event."},
        {"joined", "Lines joined to the event before them."},
        {"events", "Events made of lines."},
        {"leftovers", "Events that no pipeline took from their source."},
        {"left", "Leftovers that no pipeline took either."},
        {"unbalanced", "Events by which batches did not add up; a fault of the program."},
        {"cut", "Lines cut at the longest length."},
        {"invalid_utf8", "Lines that are not valid UTF-8."},
        {"truncated", "Times that a file was truncated."},
        {"lost_queue_full", "Messages that came by UDP while the queues were full."},
        {"lost_too_fast", "Messages that came by UDP faster than they could be taken."},
        {"set_apart",
         "Lines that could not go their way, such as those on which the program ended twice: in a file of "
         "the data folder."},
        {"copies",
         "Files that were copies of others that were then truncated; what was read is not read again."},
        {"hole_bytes", "Bytes that were never written, at the beginning of truncated files; passed over."},
        {"requests", "Requests whose events were taken."},
        {"repeated", "Requests whose Idempotency-Key was known: their events are there already."},
        {"refused", "Requests that were refused for what they are."},
        {"turned_away", "Requests that were answered 503, since the queues were full."},
        {"closed_idle", "Quiet connections that were closed to make room for others."}},
       true, "");
  each("sources", "source",
       {{"bytes_behind", "Bytes that are there and not in the spool yet."},
        {"open", "Files or connections that are open."}},
       false, "");
  each("pipelines", "pipeline",
       {{"in", "Events taken."},
        {"out", "Events sent on."},
        {"matched", "Events sent on that matched."},
        {"unmatched", "Events sent on that something did not match."},
        {"dropped", "Events dropped by a step."},
        {"merged", "Events that steps with memory made into others."},
        {"created", "Events that steps with memory made."},
        {"unrouted", "Events that went to no destination and to no pipeline."}},
       true, "_events");
  each("pipelines", "pipeline", {{"held", "Events in open windows of steps with memory."}}, false, "_events");
  each("pipelines", "pipeline",
       {{"bytes_in", "Bytes of the texts taken."},
        {"bytes_out", "Bytes put into the spool for destinations."}},
       true, "");
  for (const Json& p : status["pipelines"])
    for (std::size_t i = 0; i < p["steps"].size(); ++i)
      for (const char* what : {"in", "dropped", "failed", "missed", "gave_up"})
        m.add(std::string("dingle_step_") + what + "_events", true,
              std::string("Events of a step: ") + what + ".", label_of_step(p, i),
              p["steps"][i][what].get<double>());
  for (const Json& p : status["pipelines"])
    for (std::size_t i = 0; i < p["steps"].size(); ++i)
      for (const char* what : {"in", "out"})
        m.add(std::string("dingle_step_about_bytes_") + what, true,
              std::string("Bytes of a step, measured on some batches: ") + what + ".", label_of_step(p, i),
              p["steps"][i][std::string("about_bytes_") + what].get<double>());
  each(
      "destinations", "destination",
      {{"in", "Events queued."},
       {"sent", "Events accepted."},
       {"stored", "Events stored, as the destination's own transactions counted; not all can tell."},
       {"retried", "Events tried again."},
       {"set_aside", "Events set aside as dead letters."},
       {"shed", "Events given up because the queue was full."},
       {"damaged", "Events destroyed on disk."},
       {"unknown", "Events that are done with, where the record that said what became of them was damaged."}},
      true, "_events");
  each("destinations", "destination",
       {{"bytes_in", "Bytes queued."}, {"bytes_out", "Bytes of the events accepted."}}, true, "");
  each("destinations", "destination",
       {{"removed_indexes", "Indexes removed by `keep`."},
        {"removed_events", "Events in those."},
        {"erased_events", "Events that were erased."}},
       true, "");
  each("destinations", "destination",
       {{"waiting", "Events that wait."},
        {"waiting_bytes", "Bytes that wait."},
        {"oldest_waiting_seconds", "Age of the oldest event that waits."},
        {"letters", "Dead letters kept."},
        {"letters_lost", "Dead letters that were kept and are missing: their file was damaged."},
        {"lag_seconds", "From reading to acceptance, of the newest event."}},
       false, "");
  for (const Json& d : status["destinations"])
    m.add("dingle_destination_failing", false, "1 while the destination does not accept.",
          label("destination", d["name"]), d["failing"].get<bool>() ? 1 : 0);
  for (const auto& d : engine.destinations())
    m.add("dingle_destination_latency_seconds", "From reading a line to its acceptance.",
          label("destination", d.name), d);
  m.add("dingle_spool_bytes", false, "Bytes of the spool on disk.", "",
        status["spool"]["bytes"].get<double>());
  m.add("dingle_problems", false, "Problems at this moment.", "",
        static_cast<double>(status["problems"].size()));
  m.add("dingle_balanced", false, "1 when what came in is accounted for at every stage.", "",
        status["balanced"].get<bool>() ? 1 : 0);
  for (const Engine::Tallied& tallied : engine.tallied()) add_tallied(m, tallied);
  return m.text(openmetrics);
}

}  // namespace dingle
