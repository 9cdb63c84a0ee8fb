// tally: counts events into a metric.
//
// Memory: by the labels' values what was counted. Each changed one is said with the turn, so that what is shown is what is durable.
#include "core/steps/tally.h"

#include <algorithm>
#include <charconv>
#include <cmath>
#include <map>

#include "core/bytes.h"
#include "core/condition/words.h"
#include "core/nearest.h"
#include "core/steps/memory.h"
#include "core/steps/weight.h"
#include "core/steps/written_value.h"

namespace dingle {
namespace {

const ComponentSpec kTallySpec{
    "tally",
    "Counts events into a metric that the API's `/metrics` shows; the events pass unchanged. A counter "
    "counts them, or adds a "
    "field's values up; a gauge holds the value of the newest event, by the events' time; a histogram counts "
    "values by size. "
    "Events count as many times as they stand for. The labels are fields' values and fixed texts. Of more "
    "than `most_series` "
    "sets of labels the later ones are counted together, under `other`. What was counted survives restarts "
    "and crashes, and "
    "equals the events. With `to: [nowhere]` a pipeline only counts. Costs a look-up an event.",
    "tally: { metric: gate_requests, labels: { status: http.response.status_code }, fixed: { harbour: "
    "northquay } }",
    {{.name = "metric",
      .type = OptionType::text,
      .text = "The metric's name, without `_total`.",
      .required = true},
     {.name = "kind",
      .type = OptionType::choice,
      .fallback = "counter",
      .text = "What it is.",
      .choices = {"counter", "gauge", "histogram"}},
     {.name = "value",
      .type = OptionType::field,
      .text = "The field whose number is added, held, or sorted in."},
     {.name = "labels",
      .type = OptionType::renames,
      .text = "Labels, and the fields whose values they have."},
     {.name = "fixed", .type = OptionType::values, .text = "Labels, and their values."},
     {.name = "buckets",
      .type = OptionType::texts,
      .text = "Upper bounds of a histogram's buckets, ascending; 0.005 to 10, as for seconds, if they are "
              "not given."},
     {.name = "help", .type = OptionType::text, .text = "What it means, for whoever reads it."},
     {.name = "most_series",
      .type = OptionType::integer,
      .fallback = "1000",
      .text = "Sets of labels that are told apart.",
      .least = 1,
      .most = 100'000}}};

constexpr std::uint64_t kSeriesCharge = 300;  // bytes
constexpr std::uint8_t kKey = 1;              // a key begins with it: an empty one is the memory's own
constexpr std::size_t kLongestLabel = 200;    // bytes of a value

// What one set of labels came to.
struct Counted {
  std::int64_t whole = 0;  // exact, while it fits
  double parts = 0;
  std::int64_t time = 0;  // gauge: of the event
  bool any = false;
  std::vector<std::uint64_t> buckets;
};

class Tally final : public MemoryStep {
 public:
  TallyMetric metric;
  std::vector<std::pair<std::string, std::string>> fixed;
  std::vector<std::string> labels, label_fields;
  std::vector<FieldId> label_ids;
  FieldId value = kNoField;
  std::size_t most_series = 0;

  struct Counts final : Prepared {
    std::map<std::string, Counted> by_labels;  // by their values, encoded
  };
  class Memory final : public StepMemory {
   public:
    std::map<std::string, Counted, std::less<>> series;
    Size size() const override { return {series.size(), series.size() * kSeriesCharge, 0}; }
  };

  void follow(StepFields& fields) const override {
    for (const std::string& f : label_fields) fields.reads("labels", f);
    if (value != kNoField) fields.reads("value", field_name(value));
  }
  std::unique_ptr<StepMemory> begin() const override { return std::make_unique<Memory>(); }
  bool restore(StepMemory& memory, std::string_view key, std::string_view text, std::int64_t) const override {
    Counted counted;
    if (!read(text, counted)) return false;
    static_cast<Memory&>(memory).series[std::string(key)] = std::move(counted);
    return true;
  }
  std::uint64_t most_bytes() const override { return (most_series + 1) * kSeriesCharge; }
  std::string meaning() const override {
    std::string text = "tally 1 " + metric.name + " " + std::to_string(static_cast<int>(metric.form));
    if (value != kNoField) text += " of " + std::string(field_name(value));
    for (const std::string& f : label_fields) text += " " + f;
    for (const double bound : metric.bounds) text += " " + std::to_string(bound);
    return text;
  }
  const TallyMetric* metric_of() const override { return &metric; }
  bool series_of(std::string_view key, std::string_view text, TallySeries& to) const override {
    Counted counted;
    if (!read(text, counted)) return false;
    to.labels = fixed;
    ByteReader in(key);
    if (in.u8() != kKey) return false;
    for (const std::string& label : labels) to.labels.emplace_back(label, in.text());
    to.value = static_cast<double>(counted.whole) + counted.parts;
    to.buckets = std::move(counted.buckets);
    return in.ok();
  }

  std::unique_ptr<Prepared> prepare(Batch& batch, StepTally& tally) const override {
    auto counts = std::make_unique<Counts>();
    std::string key, holder;
    for (Event& event : batch.events) {
      if (!takes(batch, event)) continue;
      ++tally.in;
      Value amount;
      if (value != kNoField) {
        amount = batch.get(event, value);
        if (amount.absent()) {  // there is nothing to count
          ++tally.missed;
          ++tally.out;
          continue;
        }
        if (!amount.is_number() || !std::isfinite(amount.as_number())) {
          fail(batch, event, tally, "the value is no number");
          continue;
        }
        if (metric.form == TallyMetric::Form::counter && amount.as_number() < 0) {
          fail(batch, event, tally, "the value is negative, and a counter does not go down");
          continue;
        }
      }
      key.clear();
      ByteWriter out(key);
      out.u8(kKey);
      for (const FieldId field : label_ids) {
        const Value v = batch.get(event, field);
        const std::string_view text = v.absent()       ? std::string_view()
                                      : v.is_textual() ? v.as_text()
                                                       : std::string_view(holder = v.to_string());
        out.text(text.substr(0, kLongestLabel));
      }
      add(counts->by_labels[key], event, amount);
      ++tally.out;
    }
    return counts;
  }
  void turn(Batch&, StepTally& tally, Prepared* prepared, StepMemory& memory, Turn& turn) const override {
    auto& m = static_cast<Memory&>(memory);
    if (const auto* counts = static_cast<const Counts*>(prepared))
      for (const auto& [key, counted] : counts->by_labels) {
        auto held = m.series.find(key);
        if (held == m.series.end()) {
          const bool room = m.series.size() < most_series;
          if (!room) ++tally.early;
          held = m.series.try_emplace(room ? key : others()).first;
        }
        merge(held->second, counted);
        turn.changes.push_back({held->first, written(held->second)});
      }
    if (turn.why != Turn::Why::everything) return;
    for (const auto& [key, counted] : m.series) turn.changes.push_back({key, std::nullopt});
    m.series.clear();
  }

 private:
  std::string others() const {
    std::string key;
    ByteWriter out(key);
    out.u8(kKey);
    for (std::size_t i = 0; i < labels.size(); ++i) out.text("other");
    return key;
  }
  static void add_number(Counted& to, const Value& amount, double times) {
    std::int64_t product = 0, sum = 0;
    if (amount.kind() == Kind::integer && times == std::floor(times) && times < 0x1p62 &&
        !__builtin_mul_overflow(amount.as_integer(), static_cast<std::int64_t>(times), &product) &&
        !__builtin_add_overflow(to.whole, product, &sum))
      to.whole = sum;
    else
      to.parts += amount.as_number() * times;
  }
  void add(Counted& to, const Event& event, const Value& amount) const {
    if (metric.form == TallyMetric::Form::gauge) {
      if (to.any && event.timestamp < to.time) return;
      to = {};
      to.any = true;
      to.time = event.timestamp;
      add_number(to, amount, 1);
      return;
    }
    to.any = true;
    const double times = amount.absent() ? static_cast<double>(weight_of(event))
                                         : field_weight(event, field_name(value)).times;
    add_number(to, amount.absent() ? Value::integer(1) : amount, times);
    if (metric.form != TallyMetric::Form::histogram) return;
    to.buckets.resize(metric.bounds.size() + 1);
    const auto at = std::lower_bound(metric.bounds.begin(), metric.bounds.end(), amount.as_number());
    to.buckets[static_cast<std::size_t>(at - metric.bounds.begin())] +=
        static_cast<std::uint64_t>(std::llround(times));
  }
  void merge(Counted& into, const Counted& more) const {
    if (metric.form == TallyMetric::Form::gauge) {
      if (!into.any || more.time >= into.time) into = more;
      return;
    }
    add_number(into, Value::integer(more.whole), 1);
    into.parts += more.parts;
    into.any = true;
    into.buckets.resize(std::max(into.buckets.size(), more.buckets.size()));
    for (std::size_t i = 0; i < more.buckets.size(); ++i) into.buckets[i] += more.buckets[i];
  }
  static std::string written(const Counted& c) {
    std::string text;
    ByteWriter out(text);
    out.u8(1);
    out.zigzag(c.whole);
    out.decimal(c.parts);
    out.zigzag(c.time);
    out.varint(c.buckets.size());
    for (const std::uint64_t n : c.buckets) out.varint(n);
    return text;
  }
  bool read(std::string_view text, Counted& c) const {
    ByteReader in(text);
    if (in.u8() != 1) return false;
    c.whole = in.zigzag();
    c.parts = in.decimal();
    c.time = in.zigzag();
    c.any = true;
    const std::uint64_t n = in.varint();
    if (n > metric.bounds.size() + 1) return false;
    for (std::uint64_t i = 0; i < n; ++i) c.buckets.push_back(in.varint());
    return in.ok() && in.at_end();
  }
};

bool is_metric_name(std::string_view name, bool colons) {
  if (name.empty() || name.size() > 200 || (name[0] >= '0' && name[0] <= '9')) return false;
  return std::all_of(name.begin(), name.end(), [&](char c) {
    return (c >= '0' && c <= '9') || (lower_ascii(c) >= 'a' && lower_ascii(c) <= 'z') || c == '_' ||
           (colons && c == ':');
  });
}

bool read_label(const StepMaking& m, const Node::Entry& entry, std::vector<std::string>& taken) {
  const bool fine = is_metric_name(entry.key, false) && !entry.key.starts_with("__") && entry.key != "le" &&
                    entry.key != "pipeline";
  if (!fine)
    m.findings.error(entry.key_place, entry.key.size(), "`" + entry.key + "` cannot be a label",
                     "letters, digits and `_`, and not `le` or `pipeline`");
  const bool twice = std::find(taken.begin(), taken.end(), entry.key) != taken.end();
  if (twice)
    m.findings.error(entry.key_place, entry.key.size(), "the label `" + entry.key + "` is there twice", "");
  taken.push_back(entry.key);
  return fine && !twice;
}

std::unique_ptr<Step> make_tally(const StepMaking& m) {
  auto step = std::make_unique<Tally>();
  step->metric.name = m.options.text("metric");
  step->metric.help = m.options.text("help");
  const std::string& kind = m.options.text("kind");
  step->metric.form = kind == "gauge"       ? TallyMetric::Form::gauge
                      : kind == "histogram" ? TallyMetric::Form::histogram
                                            : TallyMetric::Form::counter;
  bool ok = true;
  const auto wrong = [&](const char* option, std::string message, std::string hint) {
    m.findings.error(m.options.where(option), std::move(message), std::move(hint));
    ok = false;
  };
  const std::string& name = step->metric.name;
  if (!is_metric_name(name, true) || name.starts_with("dingle_"))
    wrong("metric", "`" + name + "` cannot be a metric's name",
          "letters, digits, `_` and `:`; names that begin with `dingle_` are the program's own");
  if (name.ends_with("_total"))
    wrong("metric", "a counter's `_total` is added to its name", "write " + name.substr(0, name.size() - 6));
  if (m.options.given("value")) step->value = field_id(m.options.text("value"));
  if (step->value == kNoField && kind != "counter")
    wrong("kind", "a " + kind + " needs `value`, the field that holds its number", "");
  std::vector<std::string> taken;
  for (const auto& entry : m.options.tree("labels").entries) {
    ok = read_label(m, entry, taken) && ok;
    step->labels.push_back(entry.key);
    step->label_fields.push_back(entry.value.scalar);
    step->label_ids.push_back(field_id(entry.value.scalar));
  }
  for (const auto& entry : m.options.tree("fixed").entries) {
    ok = read_label(m, entry, taken) && ok;
    step->fixed.emplace_back(entry.key, entry.value.scalar);
  }
  if (m.options.given("buckets") && kind != "histogram")
    wrong("buckets", "`buckets` are for a histogram", "kind: histogram");
  if (kind == "histogram") {
    step->metric.bounds = {0.005, 0.01, 0.025, 0.05, 0.1, 0.25, 0.5, 1, 2.5, 5, 10};
    if (m.options.given("buckets")) step->metric.bounds.clear();
    for (const std::string& text : m.options.texts("buckets")) {
      double bound = 0;
      const auto r = std::from_chars(text.data(), text.data() + text.size(), bound);
      if (r.ec != std::errc() || r.ptr != text.data() + text.size() || !std::isfinite(bound) ||
          (!step->metric.bounds.empty() && bound <= step->metric.bounds.back())) {
        wrong("buckets", "`" + text + "` is no bound, or not above the one before it",
              "for instance [0.1, 0.5, 1, 5]");
        break;
      }
      step->metric.bounds.push_back(bound);
    }
    if (step->metric.bounds.size() > 100) wrong("buckets", "more than 100 buckets", "");
  }
  step->most_series = static_cast<std::size_t>(m.options.number("most_series"));
  if (!ok) return nullptr;
  return step;
}

const StepRegistration tally_step({kTallySpec, make_tally, true, true});

}  // namespace
}  // namespace dingle
