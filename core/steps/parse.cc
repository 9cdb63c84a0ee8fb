// parse: templates, tried in order; the first that matches the line gives its fields.
#include "core/steps/step.h"
#include "core/template/set.h"

namespace dingle {
namespace {

const ComponentSpec kParseSpec{
    "parse",
    "Takes a text apart with templates. They are tried in order, and the first that matches gives the event "
    "its fields. Where another field says how the text is laid out, `by` names it and `cases` has the "
    "templates "
    "for its values; those of `templates` are tried behind them, and for all other values. An event that "
    "none "
    "matches is kept as it is, marked with `dingle.unmatched` and `dingle.unmatched.column`, and counted.",
    "parse:\n  templates:\n    - '{client.address:ip} {status:int}'\n    - '{message}'",
    {{.name = "templates",
      .type = OptionType::templates,
      .text = "The templates, in the order in which they are tried. Needed unless there are `cases`."},
     {.name = "field", .type = OptionType::field, .fallback = "body", .text = "The field to take apart."},
     {.name = "by", .type = OptionType::field, .text = "The field whose value chooses among the `cases`."},
     {.name = "cases",
      .type = OptionType::template_lists,
      .text = "Templates by the value of the field `by`, written as in a text."},
     {.name = "open_end",
      .type = OptionType::boolean,
      .fallback = "false",
      .text = "The templates need only match the beginning of the text."},
     {.name = "keep_partial",
      .type = OptionType::boolean,
      .fallback = "false",
      .text = "An event that no template matches keeps the fields that the template that came furthest had "
              "matched "
              "before it failed."}}};

class Parse final : public Step {
 public:
  FieldId field = names::body, by = kNoField;
  bool keep_partial = false;
  struct Case {
    std::string value;
    TemplateSet set;        // of its own templates and behind them the common ones
    std::size_t first = 0;  // number of its first template; the common ones begin with 0
    std::size_t own = 0;
  };
  std::vector<Case> cases;  // sorted by value
  TemplateSet common;
  std::vector<std::string> texts;  // of all templates, by number

  std::vector<std::string> templates() const override { return texts; }

  void run(Batch& batch, StepTally& tally) const override {
    tally.matched.resize(texts.size());
    tally.expensive.resize(texts.size());
    std::vector<Value> values;
    std::vector<Field> found;
    std::string holder;
    Explaining explaining;
    each(batch, tally, [&](Event& event) {
      const Value input = field == names::body ? Value::text(event.body) : batch.get(event, field);
      if (input.absent()) {
        ++tally.out;  // nothing to take apart is no failure
        return;
      }
      const std::string_view text =
          input.is_textual() ? input.as_text() : batch.arena.copy(holder = input.to_string());
      const Case* chosen = by == kNoField ? nullptr : case_of(batch, event);
      const TemplateSet& set = chosen ? chosen->set : common;
      found.clear();
      const MatchContext context{
          &batch.arena,           event.observed,       &found, batch.readable_behind(text),
          &tally.fields_left_out, &tally.values_as_text};
      int expensive = -1;
      const int which = set.match(text, context, values, &expensive);
      if (expensive >= 0) ++tally.expensive[number(chosen, static_cast<std::size_t>(expensive))];
      if (which >= 0) {
        const std::size_t n = number(chosen, static_cast<std::size_t>(which));
        ++tally.matched[n];
        ++tally.out;
        event.template_number = static_cast<std::uint16_t>(n + 1);
        take(batch, event, set[static_cast<std::size_t>(which)].slots(), values.data());
        if (!found.empty()) tally.fields_left_out += batch.take(event, found);
        return;
      }
      explain(batch, event, tally, text, set, expensive, explaining);
    });
  }

  void follow(StepFields& fields) const override {
    fields.reads("field", field_name(field));
    if (by != kNoField) fields.reads("by", field_name(by));
    const auto bring = [&](const TemplateSet& set) {
      for (std::size_t i = 0; i < set.size(); ++i) {
        for (const Slot& slot : set[i].slots()) fields.there.add(slot.name, slot.kind);
        if (set[i].brings_found()) fields.there.add_any();
      }
    };
    bring(common);
    for (const Case& c : cases) bring(c.set);
  }
  std::vector<Captured> captured(const Batch& batch, const Event& event) const override {
    std::vector<Captured> all;
    const Value input = batch.get(event, field);
    if (!input.is_textual()) return all;
    Arena arena;
    const MatchContext context{&arena, event.observed};
    const Case* chosen = by == kNoField ? nullptr : case_of(batch, event);
    const TemplateSet& set = chosen ? chosen->set : common;
    std::vector<Value> values;
    const int which = set.match(input.as_text(), context, values);
    if (which < 0) return all;
    const Template& matched = set[static_cast<std::size_t>(which)];
    const auto places = matched.places(input.as_text(), context);
    for (std::size_t i = 0; i < places.size(); ++i)
      if (places[i].second != 0)
        all.push_back({std::string(field_name(matched.slots()[i].field)),
                       input.as_text().substr(places[i].first, places[i].second)});
    return all;
  }

 private:
  const Case* case_of(const Batch& batch, const Event& event) const {
    const Value v = batch.get(event, by);
    if (v.absent()) return nullptr;
    std::string holder;
    const std::string_view key = v.is_textual() ? v.as_text() : std::string_view(holder = v.to_string());
    auto it = std::lower_bound(cases.begin(), cases.end(), key,
                               [](const Case& c, std::string_view k) { return c.value < k; });
    return it != cases.end() && it->value == key ? &*it : nullptr;
  }
  static std::size_t number(const Case* chosen, std::size_t which) {
    if (chosen == nullptr) return which;
    return which < chosen->own ? chosen->first + which : which - chosen->own;
  }
  static void take(Batch& batch, Event& event, const std::vector<Slot>& slots, const Value* values) {
    const bool fresh = event.field_count == 0;  // then no name can be there already
    event.reserve(batch.arena, slots.size());
    for (std::size_t i = 0; i < slots.size(); ++i) {
      if (values[i].absent()) continue;
      if (slots[i].field == names::body)
        event.body = values[i].as_text();
      else if (fresh && event.field_count < event.field_capacity)
        event.fields[event.field_count++] = {slots[i].field, values[i]};
      else
        event.set(batch.arena, slots[i].field, values[i]);
    }
  }

  // Notes where the template that came furthest failed, and what it expected there. The words are found once
  // for all events of the batch to which they apply.
  struct Explaining {
    MatchFailure one, furthest;
    std::vector<std::size_t> nearest;
    std::vector<std::pair<MatchFailure, std::string_view>> told;
  };
  void explain(Batch& batch, Event& event, StepTally& tally, std::string_view text, const TemplateSet& set,
               int expensive, Explaining& with) const {
    constexpr std::size_t kMostExplained = 8;
    const MatchContext context{&batch.arena, event.observed};
    if (set.size() == 0) return fail(batch, event, tally, "no template is meant for it", 1);
    if (expensive >= 0)
      with.nearest = {static_cast<std::size_t>(expensive)};
    else
      set.nearest(text, context, kMostExplained, with.nearest);
    for (std::size_t i = 0; i < with.nearest.size(); ++i) {
      set[with.nearest[i]].locate(text, context, with.one);
      if (i == 0 || with.one.offset > with.furthest.offset) std::swap(with.one, with.furthest);
    }
    if (keep_partial)
      for (const auto& [captured, value] : with.furthest.of->explain(text, context).so_far)
        event.set(batch.arena, field_id(captured), value);
    fail(batch, event, tally, words(batch, with), with.furthest.offset + 1);
  }
  std::string_view words(Batch& batch, Explaining& with) const {
    constexpr std::size_t kMostTold = 16;
    for (const auto& [failure, reason] : with.told)
      if (failure.told_like(with.furthest)) return reason;
    std::string reason = Template::reason(with.furthest);
    if (field != names::body) reason = std::string(field_name(field)) + ": " + reason;
    if (with.told.size() == kMostTold) with.told.clear();
    with.told.emplace_back(with.furthest, batch.arena.copy(reason));
    return with.told.back().second;
  }
};

using Compiled = std::vector<std::shared_ptr<const Template>>;

// Compiles a list of templates; false after problems.
bool compile_all(const StepMaking& m, const Node& node, TemplateOptions options, Compiled& to,
                 std::vector<std::string>& texts) {
  const std::vector<Node> one{node};
  bool ok = true;
  for (const Node& at : node.is_list() ? node.items : one) {
    std::vector<Problem> problems;
    auto compiled = Template::compile(at.scalar, m.patterns, options, problems);
    for (const Problem& p : problems) m.findings.error_within(at, p);
    if (compiled)
      for (const Problem& p : compiled->warnings()) m.findings.warning(at, p.message, p.hint);
    ok = ok && compiled;
    to.push_back(std::move(compiled));
    texts.push_back(at.scalar);
  }
  return ok;
}

void warn_shadowed(const StepMaking& m, const TemplateSet& set, const std::vector<const Node*>& places,
                   std::size_t own) {
  for (auto [later, earlier] : set.shadowed()) {
    if (later >= own && own != 0) continue;  // a common one that a case hides is still there for other values
    const bool same = set[later].text() == set[earlier].text();
    m.findings.warning(
        *places[later],
        "this template can never match: number " + std::to_string(earlier + 1) +
            (same ? " is the same and is tried before" : " is tried before and takes all of its lines"),
        same ? "remove one of them" : "put the narrower template first");
  }
}

void add_places(const Node& node, std::vector<const Node*>& to) {
  if (!node.is_list()) return to.push_back(&node);
  for (const Node& item : node.items) to.push_back(&item);
}

std::unique_ptr<Step> make_parse(const StepMaking& m) {
  auto step = std::make_unique<Parse>();
  step->field = field_id(m.options.text("field"));
  step->keep_partial = m.options.flag("keep_partial");
  const TemplateOptions options{.open_end = m.options.flag("open_end")};
  const Node* node = m.options.node("templates");
  const Node* cases = m.options.node("cases");
  if (node == nullptr && cases == nullptr) {
    m.findings.error(m.options.place(), 1, "`parse` has neither `templates` nor `cases`",
                     "for instance: templates: ['{client.address:ip} {status:int}']");
    return nullptr;
  }
  if (m.options.given("by") != (cases != nullptr)) {
    m.findings.error(m.options.place(), 1, "`by` and `cases` need each other",
                     "`by` names the field whose value chooses among the `cases`");
    return nullptr;
  }
  Compiled common;
  std::vector<const Node*> common_places;
  bool ok = node == nullptr || compile_all(m, *node, options, common, step->texts);
  if (node) add_places(*node, common_places);
  if (cases != nullptr) {
    step->by = field_id(m.options.text("by"));
    for (const Node::Entry& entry : cases->entries) {
      Compiled own;
      std::vector<const Node*> places;
      const std::size_t first = step->texts.size();
      ok = compile_all(m, entry.value, options, own, step->texts) && ok;
      if (!ok) continue;
      add_places(entry.value, places);
      const std::size_t count = own.size();
      own.insert(own.end(), common.begin(), common.end());
      places.insert(places.end(), common_places.begin(), common_places.end());
      step->cases.push_back({entry.key, TemplateSet(std::move(own)), first, count});
      warn_shadowed(m, step->cases.back().set, places, count);
    }
    std::sort(step->cases.begin(), step->cases.end(),
              [](const Parse::Case& a, const Parse::Case& b) { return a.value < b.value; });
  }
  if (!ok) return nullptr;
  step->common = TemplateSet(std::move(common));
  warn_shadowed(m, step->common, common_places, 0);
  return step;
}

const StepRegistration parse_step({kParseSpec, make_parse});

}  // namespace
}  // namespace dingle
