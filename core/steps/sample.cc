// sample: keeps a share of events, and says how many each stands for.
#include <xxhash.h>

#include <charconv>
#include <cmath>

#include "core/steps/step.h"
#include "core/steps/weight.h"

namespace dingle {
namespace {

const ComponentSpec kSampleSpec{
    "sample",
    "Keeps a share of the events, and drops the others, counted. Which ones is decided by the value of the "
    "field `by`, the same "
    "way everywhere and always, so that traces stay whole; without it, and for events that lack it, each "
    "event is decided on "
    "its own. A kept event carries in `dingle.stands_for` for how many it stands: a whole number, 3 or 4 "
    "where the share is "
    "30 %, so that sums are right on average; a second `sample` multiplies it. Counts over time, top values, "
    "sums and `fold` "
    "count what events stand for; values that `fold` made are weighed by how many folded events were left "
    "out. Costs a hash an event.",
    "sample: { by: trace_id, shares: { \"http.response.status_code >= 500\": 100%, \"url.path like "
    "'/health%'\": 0% }, share: 10% }",
    {{.name = "share",
      .type = OptionType::text,
      .fallback = "100%",
      .text = "What is kept of events for which none of `shares` holds: 30%, 0.5%."},
     {.name = "shares",
      .type = OptionType::table,
      .text = "Conditions and shares; the first condition that holds decides."},
     {.name = "by",
      .type = OptionType::field,
      .text = "The field whose value decides, for instance `trace_id`."}}};

// "30%" as 0.3; nothing if it is no share.
std::optional<double> share_of(std::string_view text) {
  double percent = 0;
  const auto r = std::from_chars(text.data(), text.data() + text.size(), percent);
  if (r.ec != std::errc() || r.ptr + 1 != text.data() + text.size() || *r.ptr != '%' || !(percent >= 0) ||
      percent > 100)
    return {};
  return percent / 100;
}

class Sample final : public Step {
 public:
  struct Rule {
    std::unique_ptr<Condition> where;
    double share = 1;
  };
  std::vector<Rule> rules;
  double share = 1;
  FieldId by = kNoField;

  void follow(StepFields& fields) const override {
    for (const Rule& rule : rules)
      for (const FieldId field : rule.where->fields()) fields.reads("shares", field_name(field));
    if (by != kNoField) fields.reads("by", field_name(by));
    fields.there.add("dingle.stands_for");
  }
  std::string stops_everything() const override {
    return rules.empty() && share == 0 ? "it keeps no event" : "";
  }
  void run(Batch& batch, StepTally& tally) const override {
    std::string holder;
    each(batch, tally, [&](Event& event) {
      const double kept = share_for(batch, event);
      if (kept >= 1) {
        ++tally.out;
        return;
      }
      const std::int64_t weight = weight_of(event);
      // One that was chosen by this value before is chosen anew: what it stands for is part of the hash.
      const std::uint64_t hash = hash_of(batch, event, static_cast<std::uint64_t>(weight) - 1, holder);
      const double at = static_cast<double>(hash >> 11) * 0x1p-53;  // 0 to below 1, evenly
      if (at >= kept) {
        event.dropped_by = number;
        ++tally.dropped;
        return;
      }
      // at / kept is even, too: whether the fraction counts as one more.
      const double exact = static_cast<double>(weight) / kept, whole = std::floor(exact);
      const double stands = exact < 9e15 ? whole + (at / kept < exact - whole ? 1 : 0) : 9e15;
      event.set(batch.arena, names::stands_for, Value::integer(static_cast<std::int64_t>(stands)));
      ++tally.out;
    });
  }

 private:
  double share_for(const Batch& batch, const Event& event) const {
    for (const Rule& rule : rules)
      if (rule.where->holds(EventReader(batch, event))) return rule.share;
    return share;
  }
  std::uint64_t hash_of(const Batch& batch, const Event& event, std::uint64_t seed,
                        std::string& holder) const {
    const Value v = by == kNoField ? Value() : batch.get(event, by);
    if (v.absent()) {
      std::uint64_t own = XXH3_64bits_withSeed(event.body.data(), event.body.size(), seed);
      own = XXH3_64bits_withSeed(&event.position, sizeof event.position, own);
      return XXH3_64bits_withSeed(&event.branch, sizeof event.branch, own);
    }
    const std::string_view text = v.is_textual() ? v.as_text() : std::string_view(holder = v.to_string());
    return XXH3_64bits_withSeed(text.data(), text.size(), seed);
  }
};

std::unique_ptr<Step> make_sample(const StepMaking& m) {
  auto step = std::make_unique<Sample>();
  bool ok = true;
  const auto read = [&](const Node& at, const std::string& text) {
    const auto share = share_of(text);
    if (!share) {
      m.findings.error(at, "`" + text + "` is no share", "write 30%, or 0.5%: from 0% to 100%");
      ok = false;
    }
    return share.value_or(0);
  };
  for (const auto& entry : m.options.tree("shares").entries) {
    auto where = Condition::parse(entry.key);
    const double share = read(entry.value, entry.value.scalar);
    if (!where) {
      Node key;
      key.form = Node::Form::scalar;
      key.place = entry.key_place, key.scalar = entry.key;
      m.findings.error_within(key, where.problem());
      ok = false;
      continue;
    }
    step->rules.push_back({std::make_unique<Condition>(std::move(*where)), share});
  }
  step->share = read(m.options.where("share"), m.options.text("share"));
  if (m.options.given("by")) step->by = field_id(m.options.text("by"));
  if (!m.options.given("share") && step->rules.empty()) {
    m.findings.error(m.options.place(), 1, "`sample` has neither `share` nor `shares`",
                     "for instance: sample: { share: 10% }");
    ok = false;
  }
  if (!ok) return nullptr;
  return step;
}

const StepRegistration sample_step({kSampleSpec, make_sample, false, true});

}  // namespace
}  // namespace dingle
