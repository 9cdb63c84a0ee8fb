// pick: values from anywhere in a text.
#include "core/steps/literal_search.h"
#include "core/steps/step.h"
#include "core/steps/word_border.h"
#include "core/template/syntax.h"
#include "core/template/template.h"

namespace dingle {
namespace {

const ComponentSpec kPickSpec{
    "pick",
    "Takes values from anywhere in a text, in any order: each small template begins with the text that "
    "stands before its "
    "value, and says what ends it, by a pattern or by the text behind it. What is not there is no failure; "
    "it is counted "
    "as missed. A text that begins with a letter, digit or `_` is found only where a word begins: `user=` "
    "not in "
    "`superuser=`. Costs a search for the beginning of each template.",
    "pick: { templates: ['<ship>{ship}</ship>', 'berth={berth:int}'], last: ['state {state:word}'] }",
    {{.name = "field",
      .type = OptionType::field,
      .fallback = "body",
      .text = "The text that holds the values."},
     {.name = "templates",
      .type = OptionType::templates,
      .text = "What is taken where it stands first in the text."},
     {.name = "last", .type = OptionType::templates, .text = "What is taken where it stands last."},
     {.name = "all",
      .type = OptionType::templates,
      .text = "What is taken wherever it stands: each field becomes a list, of 1000 values at most."},
     {.name = "required",
      .type = OptionType::fields,
      .text = "Fields without which the event is counted as failed."}}};

class Pick final : public Step {
 public:
  static constexpr std::size_t kMostTries = 1000;  // places at which a template is tried in one text
  enum class Which { first, last, all };
  struct One {
    std::shared_ptr<const Template> made;
    LiteralSearch begins;  // the text that it begins with
    Which which = Which::first;
  };
  FieldId field = names::body;
  std::vector<One> all;
  std::vector<FieldId> required;

  std::vector<std::string> templates() const override {
    std::vector<std::string> texts;
    for (const One& one : all) texts.push_back(one.made->text());
    return texts;
  }
  void follow(StepFields& fields) const override {
    fields.reads("field", field_name(field));
    for (const One& one : all)
      for (const Slot& slot : one.made->slots())
        fields.there.add(slot.name, one.which == Which::all ? Kind::list : slot.kind);
  }
  void run(Batch& batch, StepTally& tally) const override {
    tally.matched.resize(all.size());
    tally.expensive.resize(all.size());
    std::vector<Value> values;
    std::string holder;
    each(batch, tally, [&](Event& event) {
      const Value input = field == names::body ? Value::text(event.body) : batch.get(event, field);
      const std::string_view text = input.is_textual() ? input.as_text()
                                    : input.absent()   ? std::string_view()
                                                       : batch.arena.copy(holder = input.to_string());
      const MatchContext context{&batch.arena, event.observed, nullptr, batch.readable_behind(text)};
      for (std::size_t i = 0; i < all.size(); ++i) {
        bool too_many = false;
        const bool found = all[i].which == Which::all
                               ? take_all(all[i], text, context, values, batch, event, too_many)
                               : take_one(all[i], text, context, values, batch, event, too_many);
        tally.matched[i] += found;
        tally.missed += !found;
        tally.expensive[i] += too_many;
      }
      for (const FieldId wanted : required)
        if (event.find(wanted) == nullptr)
          return fail(batch, event, tally, "there is no " + std::string(field_name(wanted)) + " in it");
      ++tally.out;
    });
  }
  std::vector<Captured> captured(const Batch& batch, const Event& event) const override {
    std::vector<Captured> found;
    const Value input = batch.get(event, field);
    if (!input.is_textual()) return found;
    Arena arena;
    const MatchContext context{&arena, event.observed};
    std::vector<Value> values;
    for (const One& one : all) {
      if (one.which == Which::all) continue;  // a list stands at no one place
      bool too_many = false;
      const std::size_t at = place(one, input.as_text(), context, values, too_many);
      if (at == std::string_view::npos) continue;
      const std::string_view rest = input.as_text().substr(at);
      const auto places = one.made->places(rest, context);
      for (std::size_t s = 0; s < places.size(); ++s)
        if (places[s].second != 0)
          found.push_back({std::string(field_name(one.made->slots()[s].field)),
                           rest.substr(places[s].first, places[s].second)});
    }
    return found;
  }

 private:
  // Whether it matches there.
  static bool matches(const One& one, std::string_view text, std::size_t at, const MatchContext& context,
                      std::vector<Value>& values) {
    if (within_word(text, at)) return false;
    values.resize(one.made->value_count());
    return one.made->match(text.substr(at), context, values.data());
  }
  // Where it matches first, or last; npos: nowhere.
  static std::size_t place(const One& one, std::string_view text, const MatchContext& context,
                           std::vector<Value>& values, bool& too_many) {
    const bool last = one.which == Which::last;
    std::size_t at = last ? text.rfind(one.begins.text()) : one.begins.find(text);
    for (std::size_t tries = 0; at != std::string_view::npos; ++tries) {
      if (tries == kMostTries) {
        too_many = true;
        return std::string_view::npos;
      }
      if (matches(one, text, at, context, values)) return at;
      if (last)
        at = at == 0 ? std::string_view::npos : text.rfind(one.begins.text(), at - 1);
      else
        at = one.begins.find(text, at + 1);
    }
    return at;
  }
  static bool take_one(const One& one, std::string_view text, const MatchContext& context,
                       std::vector<Value>& values, Batch& batch, Event& event, bool& too_many) {
    if (place(one, text, context, values, too_many) == std::string_view::npos) return false;
    for (std::size_t s = 0; s < one.made->slots().size(); ++s)
      if (!values[s].absent()) set(batch, event, one.made->slots()[s].field, values[s]);
    return true;
  }
  static bool take_all(const One& one, std::string_view text, const MatchContext& context,
                       std::vector<Value>& values, Batch& batch, Event& event, bool& too_many) {
    std::vector<std::string> lists(one.made->slots().size());
    std::size_t tries = 0;
    for (std::size_t at = one.begins.find(text); at != std::string_view::npos;
         at = one.begins.find(text, at + 1)) {
      if (tries++ == kMostTries) {
        too_many = true;
        break;
      }
      if (!matches(one, text, at, context, values)) continue;
      for (std::size_t s = 0; s < lists.size(); ++s) {
        if (values[s].absent()) continue;
        lists[s] += lists[s].empty() ? '[' : ',';
        values[s].append_json(lists[s]);
      }
    }
    bool any = false;
    for (std::size_t s = 0; s < lists.size(); ++s) {
      if (lists[s].empty()) continue;
      any = true;
      set(batch, event, one.made->slots()[s].field, Value::list(batch.arena.copy(lists[s] + "]")));
    }
    return any;
  }
  static void set(Batch& batch, Event& event, FieldId name, const Value& value) {
    if (name == names::body)
      event.body = value.is_textual() ? value.as_text() : batch.arena.copy(value.to_string());
    else
      event.set(batch.arena, name, value);
  }
};

// What is wrong with a small template; nothing if nothing is.
std::optional<Problem> unfit(const std::vector<Part>& parts, const Template& made) {
  if (parts.front().form != Part::Form::literal)
    return Problem{"a template of `pick` begins with the text that stands before the value",
                   "for instance: user={user:word}", parts.front().offset, parts.front().length};
  const Part& last = parts.back();
  if (last.form == Part::Form::capture && last.text == "text")
    return Problem{"nothing says where this value ends",
                   "give it a pattern, as in {name:word}, or add the text behind it", last.offset,
                   last.length};
  if (made.brings_found())
    return Problem{"a pattern that brings fields of its own is not for `pick`",
                   "`parse` the field that it takes then", last.offset, last.length};
  if (made.slots().empty())
    return Problem{"this template takes no value", "for instance: user={user:word}", 0, 1};
  return {};
}

bool add(const StepMaking& m, const char* option, Pick::Which which, Pick& step) {
  const Node* node = m.options.node(option);
  if (node == nullptr) return true;
  bool ok = true;
  const std::vector<Node> one{*node};
  for (const Node& at : node->is_list() ? node->items : one) {
    std::vector<Problem> problems;
    auto made = Template::compile(at.scalar, m.patterns, {.open_end = true}, problems);
    std::vector<Problem> ignored;
    const std::vector<Part> parts = parse_template(at.scalar, ignored);
    if (made)
      if (auto problem = unfit(parts, *made)) problems.push_back(std::move(*problem));
    for (const Problem& p : problems) m.findings.error_within(at, p);
    if (problems.empty())
      step.all.push_back({std::move(made), LiteralSearch(parts.front().text), which});
    else
      ok = false;
  }
  return ok;
}

std::unique_ptr<Step> make_pick(const StepMaking& m) {
  auto step = std::make_unique<Pick>();
  step->field = field_id(m.options.text("field"));
  bool ok = add(m, "templates", Pick::Which::first, *step);
  ok = add(m, "last", Pick::Which::last, *step) && ok;
  ok = add(m, "all", Pick::Which::all, *step) && ok;
  for (const std::string& name : m.options.texts("required")) step->required.push_back(field_id(name));
  if (ok && step->all.empty()) {
    m.findings.error(m.options.place(), 1, "`pick` has no templates",
                     "for instance: templates: ['user={user:word}']");
    ok = false;
  }
  if (!ok) return nullptr;
  return step;
}

const StepRegistration pick_step({kPickSpec, make_pick});

}  // namespace
}  // namespace dingle
