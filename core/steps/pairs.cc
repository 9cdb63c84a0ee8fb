// pairs: keys and values anywhere in a text become fields.
#include "core/steps/structured.h"

namespace dingle {
namespace {

const ComponentSpec kPairsSpec{
    "pairs",
    "Makes fields of pairs of a key and a value, `berth=4 state=\"at rest\"`, wherever in a text they stand; "
    "other words between "
    "them are passed over. Values in quotes may hold blanks. A key that has a name of the event's own "
    "becomes `line.NAME`. A "
    "text without pairs stays as it is, and is counted as missed. Costs one look at each byte.",
    "pairs: { field: message, separator: ';', equals: ':' }",
    {{.name = "field",
      .type = OptionType::field,
      .fallback = "body",
      .text = "The field that holds the text."},
     {.name = "separator",
      .type = OptionType::text,
      .fallback = " ",
      .text = "What stands between two pairs: one byte; `\\t` for a tab."},
     {.name = "equals",
      .type = OptionType::text,
      .fallback = "=",
      .text = "What stands between key and value: one byte."},
     {.name = "typed",
      .type = OptionType::boolean,
      .fallback = "true",
      .text = "Numbers, true and false without quotes keep their type."}}};

constexpr std::size_t kMostPairWords = 1000;  // words that are no pair, in one text

class PairsStep final : public Structured {
 public:
  char separator = ' ';

  void run(Batch& batch, StepTally& tally) const override {
    std::vector<Field> found;
    std::vector<Value> values(made->value_count());
    each(batch, tally, [&](Event& event) {
      ++tally.out;
      const Value input = batch.get(event, field);
      found.clear();
      if (input.is_textual()) {
        const std::string_view text = input.as_text();
        const MatchContext context{
            &batch.arena,           event.observed,       &found, batch.readable_behind(text),
            &tally.fields_left_out, &tally.values_as_text};
        std::size_t tries = 0;
        for (std::size_t at = 0; at < text.size();) {
          if (++tries == kMostPairWords) {
            ++tally.gave_up;
            break;
          }
          at = word_behind(text, at, made->matched(text.substr(at), context, values.data()));
        }
      }
      tally.missed += found.empty();
      if (!found.empty()) tally.fields_left_out += batch.take(event, found);
    });
  }
  std::vector<Captured> captured(const Batch& batch, const Event& event) const override {
    std::vector<Captured> all;
    const Value input = batch.get(event, field);
    if (!input.is_textual()) return all;
    const std::string_view text = input.as_text();
    Arena arena;
    std::vector<Field> found;
    MatchContext context{&arena, event.observed};
    context.found = &found;
    std::vector<Value> values(made->value_count());
    std::size_t tries = 0;
    for (std::size_t at = 0; at < text.size() && ++tries < kMostPairWords;)
      at = word_behind(text, at, made->matched(text.substr(at), context, values.data()));
    for (const Field& f : found)
      if (f.value.is_textual() && f.value.as_text().data() >= text.data() &&
          f.value.as_text().data() + f.value.as_text().size() <= text.data() + text.size())
        all.push_back({std::string(field_name(f.name)), f.value.as_text()});
    return all;
  }

 private:
  // Where the next word begins, behind the pairs that stand at `at`, if any do.
  std::size_t word_behind(std::string_view text, std::size_t at, std::size_t matched) const {
    if (matched != std::string_view::npos) at += matched;
    while (at < text.size() && text[at] != separator && text[at] != ' ') ++at;
    while (at < text.size() && (text[at] == separator || text[at] == ' ')) ++at;
    return at;
  }
};

std::unique_ptr<Step> make_pairs(const StepMaking& m) {
  auto step = std::make_unique<PairsStep>();
  const std::string& separator = m.options.text("separator");
  step->separator = separator == "\\t" ? '\t' : separator.empty() ? ' ' : separator[0];
  const std::string pattern = "pairs(separator=" + as_parameter(separator) +
                              ", equals=" + as_parameter(m.options.text("equals")) +
                              (m.options.flag("typed") ? "" : ", values=text") + ")";
  if (!make_structured(m, *step, pattern, true, "separator")) return nullptr;
  return step;
}

const StepRegistration pairs_step({kPairsSpec, make_pairs});

}  // namespace
}  // namespace dingle
